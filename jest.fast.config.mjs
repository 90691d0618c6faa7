import all from './jest.config.mjs';

/**
 * The tests for every save: those that start no process, open no browser and wait for no other program. `npm test` runs all.
 * @type {import('jest').Config}
 */
export default {
  ...all,
  testPathIgnorePatterns: [
    '/node_modules/',
    '/examples/',
    '/test/browser/',
    '/test/cli/',
    '/test/pack/',
    '/test/inspect/page',
    '/test/client/raw-servers',
    '/test/support/walls',
    '/test/sources/database/',
    '/test/targets/',
    '/test/transports/(?:front-page|processes|stdio|survival)',
  ],
  maxWorkers: '100%',
};
