import { resolve } from 'node:path';
import { defineServer, type TargetKind } from '../../src/index.js';
import { wrapReadings } from './readings-source.js';

/** Files of scale readings as targets, as a third party would add them. */
export const readingsKind: TargetKind = {
  kind: 'readings',
  noun: 'a file of readings',
  example: 'season.scales.json',
  about: 'readings of hive scales',
  options: [{ name: 'apiary', flags: '--apiary <name>', about: 'where the scales stand' }],
  matches: (text, { what, text: contents }) => what === 'file' && text.endsWith('.json') && contents.includes('"kg"'),
  async open(file, { options }) {
    const title = `Scales of ${(options.apiary as string | undefined) ?? 'no apiary'}`;
    return { server: defineServer({ name: 'scales', title, version: '1.0.0', offers: [wrapReadings(file)] }), files: [file] };
  },
  hostEntry: async (file, { serve, serveOptions, env }) => ({
    kind: 'command',
    command: serve[0]!,
    args: [...serve.slice(1), resolve(file), ...serveOptions],
    env,
  }),
};
