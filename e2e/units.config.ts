import { defineConfig } from "@playwright/test";

// Logic alone: no browser and no server.
export default defineConfig({ testDir: "units", outputDir: "results", reporter: [["list"]] });
