import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    projects: [
      {
        test: {
          name: 'unit',
          include: ['{core,db,wire,engine,bench,web/src}/**/*.test.ts'],
          exclude: ['**/node_modules/**'],
          environment: 'node',
        },
      },
      {
        test: {
          name: 'long',
          include: ['e2e/long/**/*.test.ts'],
          fileParallelism: false,
          hookTimeout: 90_000,
        },
      },
      {
        test: {
          name: 'system',
          include: ['e2e/system/**/*.test.ts'],
          globalSetup: ['e2e/system/postgres.setup.ts'],
          fileParallelism: false,
          testTimeout: 90_000,
          hookTimeout: 90_000,
        },
      },
    ],
  },
});
