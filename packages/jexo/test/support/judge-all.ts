import { takeFindings } from './connect.js';

afterEach(() => {
  expect(takeFindings()).toEqual([]);
});
