import { base } from "./base.config";

export default { ...base, testDir: "pictures" };
