import { defineConfig } from 'vitest/config';

/** Tests have no sense of speed: a busy machine may take as long as it needs. How fast something is says the bench. */
const PATIENCE_MS = 240_000;

export default defineConfig({
  test: {
    projects: [
      {
        test: {
          name: 'unit',
          include: ['{core,db,bench,web/src}/**/*.test.ts'],
          exclude: ['**/node_modules/**'],
          environment: 'node',
          testTimeout: PATIENCE_MS / 4,
          hookTimeout: PATIENCE_MS / 4,
          // Modules hold no state that a test could leave behind, and reading them anew for each file takes as long as the tests.
          isolate: false,
        },
      },
      {
        test: {
          name: 'engine',
          // Apart from each other: modules are replaced by others in them, and the one clock is set.
          include: ['{engine,wire}/**/*.test.ts'],
          testTimeout: PATIENCE_MS / 4,
          hookTimeout: PATIENCE_MS / 4,
        },
      },
      {
        test: {
          name: 'long',
          include: ['e2e/long/**/*.test.ts'],
          fileParallelism: false,
          hookTimeout: PATIENCE_MS,
        },
      },
      {
        test: {
          name: 'system',
          include: ['e2e/system/**/*.test.ts'],
          globalSetup: ['e2e/system/postgres.setup.ts'],
          fileParallelism: false,
          testTimeout: PATIENCE_MS,
          hookTimeout: PATIENCE_MS,
        },
      },
    ],
  },
});
