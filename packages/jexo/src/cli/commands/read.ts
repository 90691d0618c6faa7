import type { CliCommand, Invocation } from '../command.js';
import { clientOptions, keepOptions } from '../options.js';
import { JexoError } from '../../errors.js';
import { readPairs } from '../../inspect/input-text.js';
import { parseTemplate } from '../../protocol/uri-template.js';
import type { ReadResourceResult, ResourceContents, ResourceTemplate } from '../../protocol/types.js';
import { nearest } from '../../offers/nearest.js';
import { writeOut } from '../blocks.js';
import { showTarget, takeTarget } from '../connect-target.js';
import { keepResource, printCopy, requireSheetName, type KeepOptions } from '../keep-call.js';
import { duration, note, onErr, print, printBytes, printJson, symbols } from '../terminal.js';
import { withClient, type ClientCommandOptions } from '../with-client.js';

interface ReadOptions extends ClientCommandOptions, KeepOptions {
  readonly out?: string;
  readonly watch?: boolean;
}

const usage = 'As in: jexo read apiary.ts hive://MR-03';

/** Reads a resource: by its URI, or by the name or text of a template with its variables. */
async function read({ operands, command, options }: Invocation<ReadOptions>): Promise<void> {
  const { target, rest } = takeTarget(operands, command, usage);
  const [named, ...pairs] = rest;
  if (named === undefined)
    throw new JexoError('JEXO_USAGE', 'Which resource? No URI or name was given.', {
      next: `${usage}. The resources are shown by: jexo list ${showTarget(target)}`,
    });
  if (options.keep !== undefined) requireSheetName(options.keep);
  await withClient(target, options, async ({ client, signal, onProgress, clearProgress }) => {
    const uri = await uriOf(named, pairs, async () => {
      const [resources, templates] = await Promise.all([client.resources({ signal }), client.templates({ signal })]);
      return { resources, templates };
    });
    if (printCopy(target, { kind: 'resource', name: uri, input: {} }, options)) return;
    let kept = false;
    const once = async () => {
      const start = performance.now();
      const result = await client.read(uri, { signal, onProgress });
      clearProgress();
      await show(result, options);
      if (options.keep !== undefined && !kept) await keepResource(options.keep, target, { subject: uri, input: {} }, result);
      kept = true;
      if (!options.json) note(`${onErr('moss', symbols.ok)} ${onErr('quiet', `${uri} read in ${duration(performance.now() - start)}`)}`);
    };
    await once();
    if (!options.watch) return;
    let changes = Promise.resolve();
    const stop = await client.watch(uri, () => (changes = changes.then(once)));
    if (!options.json) note(onErr('quiet', 'Watching for changes. Stop with Ctrl-C.'));
    await new Promise<void>((resolve) => signal.addEventListener('abort', () => resolve(), { once: true }));
    await changes;
    await stop();
  });
}

/** A URI as it is; otherwise a resource or a template by its name, the variables filled in. */
async function uriOf(
  named: string,
  pairs: readonly string[],
  list: () => Promise<{ resources: readonly { name: string; uri: string }[]; templates: readonly ResourceTemplate[] }>,
): Promise<string> {
  if (/^[A-Za-z][A-Za-z0-9+.-]*:/.test(named) && !named.includes('{')) {
    if (pairs.length > 0)
      throw new JexoError('JEXO_USAGE', `${named} is a whole URI: it has no variables to fill in.`, { where: pairs[0]! });
    return named;
  }
  const { resources, templates } = await list();
  const resource = resources.find(({ name }) => name === named);
  if (resource !== undefined) return resource.uri;
  const found = templates.find(({ name, uriTemplate }) => name === named || uriTemplate === named);
  if (found === undefined) {
    const near = nearest(
      named,
      [...resources, ...templates].map(({ name }) => name),
    );
    throw new JexoError('JEXO_TOOL_UNKNOWN', `There is no resource ${named}.${near === undefined ? '' : ` Did you mean ${near}?`}`, {
      where: named,
      next: 'Give a URI, or the name of a resource or a template.',
    });
  }
  const template = parseTemplate(found.uriTemplate);
  const values = readPairs(pairs, {
    type: 'object',
    properties: Object.fromEntries(template.variables.map((name) => [name, { type: 'string' }])),
  });
  const missing = template.variables.filter(
    (name) => values[name] === undefined && !new RegExp(`\\{[?&][^}]*${name}`).test(found.uriTemplate),
  );
  if (missing.length > 0)
    throw new JexoError('JEXO_INPUT_INVALID', `${found.uriTemplate} needs ${missing.join(', ')}.`, {
      where: missing[0]!,
      next: `As in: jexo read … ${found.name} ${missing.map((name) => `${name}=…`).join(' ')}`,
    });
  return template.expand(values as Record<string, string>);
}

async function show(result: ReadResourceResult, { json, out }: ReadOptions): Promise<void> {
  if (json) return printJson(JSON.stringify(result, null, 2));
  for (const contents of result.contents) {
    if (out !== undefined) await writeOut(out, bytesOf(contents));
    else if ('text' in contents) print(contents.text);
    else if (process.stdout.isTTY)
      note(
        `${contents.uri}: ${contents.mimeType ?? 'bytes'}, ${bytesOf(contents).length} bytes. Keep it with --out <file>, or pipe it on.`,
      );
    else printBytes(bytesOf(contents));
  }
}

function bytesOf(contents: ResourceContents): Buffer {
  return Buffer.from('blob' in contents ? contents.blob : contents.text, 'blob' in contents ? 'base64' : 'utf8');
}

export const command: CliCommand<ReadOptions> = {
  name: 'read',
  about: 'read a resource',
  operands: [
    '[target]',
    ['[resource]', 'a URI, or the name of a resource or a template'],
    ['[variable=value...]', 'the variables of a template'],
  ],
  options: [
    { flags: '--out <file>', about: 'write the contents to a file' },
    { flags: '--watch', about: 'read again on every change, until Ctrl-C' },
    ...keepOptions,
    ...clientOptions,
  ],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo read apiary.ts hive://MR-03
  jexo read apiary.ts hive hive=MR-03 --watch
  jexo read apiary.ts alderwick://mark.png --out mark.png`,
  run: read,
};
