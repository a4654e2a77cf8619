import { base } from "./base.config";

export default { ...base, testDir: "bench", timeout: 180_000, use: { ...base.use, trace: "off" as const } };
