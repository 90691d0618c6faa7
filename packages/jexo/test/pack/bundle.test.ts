import { copyFileSync, lstatSync, readdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import { spawn } from 'node:child_process';
import { connect } from '../support/connect.js';
import { createJudge } from '../support/judge.js';
import { freshFolder, hives, jexo, run } from '../support/command-line.js';

/** Packs a module and carries the one file to a folder that holds nothing else. */
async function packed(module: string): Promise<string> {
  const out = freshFolder('out');
  const { code, stdout, stderr } = await jexo(['pack', module, '--as', 'file', '--out', out, '--json']);
  expect([code, stderr]).toEqual([0, '']);
  const { file } = JSON.parse(stdout) as { file: string };
  const empty = freshFolder('empty');
  copyFileSync(file, join(empty, basename(file)));
  expect(readdirSync(empty)).toHaveLength(1);
  return join(empty, basename(file));
}

test('the packed functions run in an empty folder, over stdio', async () => {
  const file = await packed(hives);
  const judge = createJudge();
  const client = await connect([process.execPath, file], { tap: judge.tap });
  expect((await client.tools()).map(({ name }) => name)).toContain('mix_syrup');
  expect(
    (await client.call('days_to_harvest', { cappedPercent: 60, dailyGainKg: 2, from: '2026-06-01T00:00:00Z' })).structuredContent,
  ).toMatchObject({ days: 5, date: '2026-06-06T00:00:00.000Z' });
  await client.close();
  expect(judge.findings).toEqual([]);
  const text = readFileSync(file, 'utf8');
  expect(text).not.toContain(process.cwd());
  // The licences of all that is built in travel along.
  for (const name of ['jexo', 'ajv', 'yaml']) expect(text).toMatch(new RegExp(`^## ${name}\\b`, 'm'));
});

test('the same file serves over HTTP', async () => {
  const file = await packed(hives);
  const child = spawn(process.execPath, [file, '--http']);
  const said = await new Promise<string>((resolve) => child.stderr.once('data', (chunk: Buffer) => resolve(chunk.toString())));
  const client = await connect(/http:\S+/.exec(said)![0]);
  expect((await client.call('winter_stores', { strength: 'weak', frostMonths: 3 })).structuredContent).toEqual({ result: 10 });
  await client.close();
  child.kill('SIGTERM');
  expect(await new Promise((resolve) => child.once('close', resolve))).toBe(0);
  expect(await run(process.execPath, [file, '--http', 'ninety'])).toMatchObject({ code: 2, stderr: expect.stringContaining('65535') });
  expect(await run(process.execPath, [file, '--nonsense'])).toMatchObject({ code: 2, stderr: expect.stringContaining('--nonsense') });
  expect(await run(process.execPath, [file, '--help'])).toMatchObject({ code: 0, stderr: expect.stringContaining('--http') });
});

test('a server of its own is packed with the types of what it wraps', async () => {
  const project = freshFolder('project');
  writeFileSync(
    join(project, 'lots.ts'),
    '/** Names a lot. @param year of the harvest */\nexport function lotNumber(year: number, line: "A" | "B" = "A"): string { return `${line}-${year}` }\n',
  );
  writeFileSync(
    join(project, 'apiary.ts'),
    `import { defineServer, wrapFunctions } from 'jexo';
    import * as lots from './lots';
    export default defineServer({ name: 'ledger', version: '3.0.0', offers: [wrapFunctions(lots, { types: new URL('./lots.ts', import.meta.url) })] });`,
  );
  const file = await packed(join(project, 'apiary.ts'));
  const client = await connect([process.execPath, file]);
  expect(client.server.serverInfo).toMatchObject({ name: 'ledger', version: '3.0.0' });
  expect((await client.call('lot_number', { year: 2026 })).structuredContent).toEqual({ result: 'A-2026' });
  await client.close();
});

test('packing never overwrites the module itself', async () => {
  const project = freshFolder('same');
  writeFileSync(join(project, 'a.mjs'), '/** @param {number} a */ export function f(a) { return a }\n');
  expect(await jexo(['pack', join(project, 'a.mjs'), '--out', project])).toMatchObject({
    code: 3,
    stderr: expect.stringContaining('would overwrite'),
  });
});

test('packing overwrites nothing without being told, and follows no link', async () => {
  const [project, out] = [freshFolder('over'), freshFolder('over-out')];
  writeFileSync(join(project, 'a.mjs'), '/** @param {number} a */ export function f(a) { return a }\n');
  const victim = join(project, 'victim.txt');
  writeFileSync(victim, 'precious');
  symlinkSync(victim, join(out, 'a.mjs'));
  const pack = (...more: string[]) => jexo(['pack', join(project, 'a.mjs'), '--out', out, ...more]);
  expect(await pack()).toMatchObject({ code: 3, stderr: expect.stringContaining('nothing is overwritten') });
  expect(await pack('--replace')).toMatchObject({ code: 0 });
  expect(readFileSync(victim, 'utf8')).toBe('precious');
  expect(lstatSync(join(out, 'a.mjs')).isSymbolicLink()).toBe(false);
  expect(readFileSync(join(out, 'a.mjs'), 'utf8')).toContain('#!/usr/bin/env node');
});
