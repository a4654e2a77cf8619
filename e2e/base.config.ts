import { defineConfig } from "@playwright/test";

const port = 18080;

/** The real server with its own database, in a fresh state folder that the Makefile names. */
export const base = defineConfig({
  outputDir: "results",
  workers: 1,
  // What is waited for ends the wait. These end what never comes, on a machine that is loaded tenfold, too.
  timeout: 4 * 60_000,
  expect: { timeout: 60_000 },
  reporter: [["list"]],
  use: {
    baseURL: `http://127.0.0.1:${port}`,
    viewport: { width: 1280, height: 800 },
    trace: process.env.TRACE ? "retain-on-failure" : "off", // it doubles the time
    screenshot: "only-on-failure",
    launchOptions: {
      executablePath: process.env.CHROMIUM ?? "/usr/bin/chromium",
      args: [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
      ],
    },
  },
  webServer: {
    command: `../bin/dravin demo --listen 127.0.0.1:${port} --state ${process.env.DRAVIN_E2E_STATE ?? "../.dravin/e2e"}`,
    url: `http://127.0.0.1:${port}/healthz`,
    timeout: 5 * 60_000,
    gracefulShutdown: { signal: "SIGTERM", timeout: 20_000 },
  },
});
