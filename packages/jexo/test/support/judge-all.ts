import { jest } from '@jest/globals';
import { takeFindings } from './connect.js';

afterEach(() => {
  expect(takeFindings()).toEqual([]);
});

// Many tests start processes, and machines of continuous integration are small: one that fails is run once more there, and both times are
// printed. At home it just fails.
if (process.env.CI) jest.retryTimes(1, { logErrorsBeforeRetry: true });
