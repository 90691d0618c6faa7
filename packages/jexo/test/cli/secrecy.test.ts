import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { connect } from '../../src/index.js';
import { freshFolder, hives, jexo, start } from '../support/command-line.js';

/** Every file below a folder, with what it holds. */
function filesIn(folder: string): { readonly file: string; readonly text: string }[] {
  return readdirSync(folder).flatMap((name) => {
    const file = join(folder, name);
    return statSync(file).isDirectory() ? filesIn(file) : [{ file, text: readFileSync(file, 'latin1') }];
  });
}

test('keys stand in nothing that is written or told: logs, metrics, wire logs, errors, pages, settings, packs', async () => {
  const folder = freshFolder('secrecy');
  const add = async (name: string) =>
    (JSON.parse((await jexo(['keys', 'add', name, '--json'], { cwd: folder })).stdout) as { key: string }).key;
  const [key, revoked] = [await add('lab'), await add('guest')];
  await jexo(['keys', 'revoke', 'guest'], { cwd: folder });
  const words = ['serve', hives, '--http', '0', '--keys', 'keys.json', '--metrics', '--admin-port', '0', '--workers', '2'];
  const logs = ['--log', 'calls.log', '--log-inputs', '--wire-log', 'wire.jsonl'];
  const running = await start([...words, ...logs, '--json'], { cwd: folder });
  const { address: url, admin } = running.said as { address: string; admin: string };
  const told: string[] = [];
  const withKey = (sent: string) => ({ headers: { Authorization: `Bearer ${sent}` } });
  const client = await connect(url, withKey(key));
  told.push(JSON.stringify(await client.call('mix_syrup', { colonies: 2, season: 'autumn' })));
  told.push(JSON.stringify(await client.call('mix_syrup', { colonies: 'many' }).catch(String)));
  told.push(JSON.stringify(await client.call('nothing').catch(String)));
  told.push(await connect(url, withKey(revoked)).then(String, String));
  for (const path of ['/', '/ready', '/nowhere', '/mcp'])
    told.push(
      await fetch(new URL(path, url), withKey(key)).then(async (answer) => `${JSON.stringify([...answer.headers])} ${await answer.text()}`),
    );
  // A key in the wrong place is still a key.
  told.push(await fetch(`${url}?key=${key}`).then((answer) => answer.text()));
  told.push(await fetch(`${admin}/metrics`).then((answer) => answer.text()));
  const failed = await jexo(['call', url, 'mix_syrup', '--header', `Authorization: Bearer ${revoked}`, '--wire'], { cwd: folder });
  told.push(failed.stdout, failed.stderr);
  expect(failed.code).not.toBe(0);
  const shown = await jexo([...words, '--print-settings', '--json'], { cwd: folder, env: { JEXO_TEST_KEY: key } });
  told.push(shown.stdout, shown.stderr);
  const listed = await jexo(['keys', 'list', '--json'], { cwd: folder });
  told.push(listed.stdout);
  const packed = await jexo(['pack', hives, '--out', 'dist'], { cwd: folder });
  expect(packed.code).toBe(0);
  told.push(packed.stdout, packed.stderr);
  await client.close();
  await running.stop();
  told.push(running.stderr());
  const files = filesIn(folder);
  const names = files.map(({ file }) => file);
  expect(['calls.log', 'wire.jsonl', 'keys.json'].every((name) => names.some((file) => file.endsWith(name)))).toBe(true);
  expect(files.find(({ file }) => file.endsWith('calls.log'))!.text).toContain('"season":"autumn"');
  expect(told.join('\n')).toContain('jexo_calls_total');
  for (const each of [key, revoked]) {
    const secret = each.split('_').slice(2).join('_');
    expect(files.filter(({ text }) => text.includes(secret)).map(({ file }) => file)).toEqual([]);
    expect(told.filter((text) => text.includes(secret))).toEqual([]);
  }
});
