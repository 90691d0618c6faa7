/** @type {import('jest').Config} */
export default {
  testMatch: ['<rootDir>/packages/*/test/**/*.test.ts', '<rootDir>/examples/*/test/**/*.test.ts'],
  transform: { '\\.ts$': '<rootDir>/scripts/jest-esbuild.mjs' },
  extensionsToTreatAsEsm: ['.ts'],
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
  setupFilesAfterEnv: ['<rootDir>/packages/jexo/test/support/judge-all.ts'],
  testEnvironment: 'node',
  testSequencer: '<rootDir>/scripts/jest-sequencer.mjs',
  // Two cores, and many tests start processes of their own.
  maxWorkers: 2,
  testTimeout: 120_000,
};
