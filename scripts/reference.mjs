// Writes docs/reference.md from the code: commands, settings, errors, rules of check. With --check it only says whether the page is what the code says.
import { spawnSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const page = join(root, 'docs/reference.md');

async function read(file) {
  const { outputFiles } = await build({
    absWorkingDir: root,
    entryPoints: [join('packages/jexo/src', file)],
    bundle: true,
    format: 'esm',
    platform: 'neutral',
    write: false,
    logLevel: 'silent',
  });
  return import(`data:text/javascript,${encodeURIComponent(outputFiles[0].text)}`);
}

const cell = (text) => String(text).replaceAll('|', '\\|').replaceAll('\n', ' ');
const table = (head, rows) =>
  [`| ${head.join(' | ')} |`, `| ${head.map(() => '---').join(' | ')} |`, ...rows.map((row) => `| ${row.map(cell).join(' | ')} |`)].join(
    '\n',
  );

const { catalogue } = await read('errors.ts');
const { rules } = await read('inspect/checks/finding.ts');
const { serveSettings, variableOf } = await read('plans/serve-settings.ts');
const help = spawnSync(process.execPath, [join(root, 'packages/jexo/dist/cli.mjs'), '--help'], {
  encoding: 'utf8',
  env: { ...process.env, COLUMNS: '400', NO_COLOR: '1' },
}).stdout;
const commands = [.../Commands:\n([\s\S]*?)\n\n/.exec(help)[1].matchAll(/^ {2}(\S+)(.*?) {2,}(\S.*)$/gm)].map(
  ([, name, operands, about]) => [`\`jexo ${name}${operands.replace(' [options]', '')}\``, about],
);

const text = `# Reference

Made from the code by \`npm run reference\`; a test fails when it is out of date. Options of each command: \`jexo <command> --help\`.

## Commands

${table(['Command', 'What it does'], commands)}

## Arguments of calls

| You write | The tool gets |
| --- | --- |
| \`colonies=12\`, \`season=autumn\`, \`isOpen=true\` | a value of the type that the schema names |
| \`place.apiary=MR\` | a field of an object |
| \`rows[0].kg=31\`, \`names=a names=b\` | items of a list |
| \`note=@note.txt\`, \`photo=@hive.png\` | the text of a file; its bytes as base64 where the schema says so |
| \`place='{"apiary":"MR"}'\` | JSON, for an object or a list |
| \`--input '{…}'\`, \`--input @file.json\`, \`--input -\` | the whole input |

## Exit codes

| Code | Meaning |
| --- | --- |
| 0 | done |
| 1 | the call or the check failed |
| 2 | the command was used wrongly |
| 3 | the target can't be read or reached |
| 130 | stopped by a second Ctrl-C |

## Environment

Settings of \`jexo serve\`; an option goes before the variable, and that before a plan file.

${table(
  ['Variable', 'Option', 'What it does'],
  serveSettings.map(({ flags, about }) => [`\`${variableOf(flags)}\``, `\`${flags}\``, about]),
)}

Others:

| Variable | What it does |
| --- | --- |
| \`JEXO_ONLY\`, \`JEXO_EXCEPT\` | what \`jexo serve\` offers of what there is, as the switches say it ([production](production.md)) |
| \`PORT\`, \`HOST\` | the port and address of a platform, where \`--http\` has no port |
| \`JEXO_CACHE\` | a folder for what is kept between runs: types that were read, notes of the inspector, indexes of folders |
| \`JEXO_SIGN_INS\` | the file of kept sign-ins |
| \`JEXO_CLIENT_ID\`, \`JEXO_CLIENT_SECRET\`, \`JEXO_ISSUER\` | a client that is known to the authorization server named by the last one; the secret is for introspection too |
| \`JEXO_MODEL_KEY\` | the key of the model service that \`chat\`, \`rehearse\` and \`inspect\` ask |
| \`JEXO_DEBUG=1\` | print where a fault of Jexo itself happened |
| \`NO_COLOR\`, \`FORCE_COLOR\`, \`COLUMNS\` | no colours, colours all the same, the width of the terminal |

## Files

| File | What it is | Schema |
| --- | --- | --- |
| \`*.jexo.yaml\`, \`*.jexo.json\` | a plan: a server without code ([plan files](plan-files.md)) | \`jexo/plan.schema.json\` |
| \`*.calls.yaml\` | a call sheet: calls and what they must answer ([sheets](sheets.md)) | \`jexo/calls.schema.json\` |
| \`*.requests.yaml\` | a request sheet: requests in plain words and the tools they should lead to | \`jexo/requests.schema.json\` |
| \`*.questions.yaml\` | a question sheet: questions and the pages that answer them ([folders](folders.md)) | \`jexo/questions.schema.json\` |
| \`*.jsonl\` of \`--wire-log\` | every message, a line each ([transports](transports.md)) | |
| \`keys.json\` of \`jexo keys\` | hashes of the keys of callers ([production](production.md)) | |
| \`switches.json\` of \`--switches\` | offers that are on: \`{ "only": […], "except": […] }\` | |

## Error codes

Every error says what happened, where, and what to do next. In code it is a \`JexoError\` with \`code\`, \`where\` and \`next\`.

${table(
  ['Code', 'Exit code', 'What to do'],
  Object.entries(catalogue).map(([code, { exit, next }]) => [`\`${code}\``, exit, next]),
)}

## Rules of \`jexo check\`

When each is reported: [check](check.md).

${table(
  ['Rule', 'Why it matters'],
  Object.entries(rules).map(([rule, why]) => [`\`${rule}\``, why]),
)}
`;

if (process.argv.includes('--check')) {
  if (readFileSync(page, 'utf8') === text) process.exit(0);
  console.error('docs/reference.md is not what the code says. Write it again: npm run reference');
  process.exit(1);
}
writeFileSync(page, text);
