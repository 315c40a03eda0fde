import { defineConfig } from '@playwright/test';
import { CHROMIUM } from './scripts/lib/chromium.mjs';

export default defineConfig({
  testDir: 'e2e/browser',
  // Apart from the results of others, which it would remove.
  outputDir: 'test-results/browser',
  globalSetup: './e2e/browser/global.setup.ts',
  fullyParallel: false,
  // Each file has a database, ports and processes of its own.
  workers: 2,
  timeout: 240_000,
  expect: { timeout: 40_000 },
  reporter: [['list'], ['json', { outputFile: 'test-results/browser.json' }]],
  use: {
    viewport: { width: 1280, height: 800 },
    launchOptions: CHROMIUM,
    permissions: ['clipboard-read', 'clipboard-write'],
  },
});
