import type { CliCommand, Invocation } from '../command.js';
import { clientOptions, keepOptions } from '../options.js';
import { JexoError } from '../../errors.js';
import { readPairs } from '../../inspect/input-text.js';
import { nearest } from '../../offers/nearest.js';
import type { ContentBlock, JsonSchema, Prompt } from '../../protocol/types.js';
import { askMissing } from '../ask.js';
import { blockText } from '../blocks.js';
import { showTarget, takeTarget } from '../connect-target.js';
import { keepPrompt, printCopy, requireSheetName, type KeepOptions } from '../keep-call.js';
import { onOut, print, printJson } from '../terminal.js';
import { asInvalidInput, withClient, type ClientCommandOptions } from '../with-client.js';

const usage = 'As in: jexo prompt apiary.ts inspection_summary hive=MR-03';

/** Renders a prompt: the messages it becomes. */
async function prompt({ operands, command, options }: Invocation<ClientCommandOptions & KeepOptions>): Promise<void> {
  const { target, rest } = takeTarget(operands, command, usage);
  const [name, ...pairs] = rest;
  if (name === undefined)
    throw new JexoError('JEXO_USAGE', 'Which prompt? No name was given.', {
      next: `${usage}. The prompts are shown by: jexo list ${showTarget(target)}`,
    });
  if (options.keep !== undefined) requireSheetName(options.keep);
  await withClient(target, options, async ({ client, signal, onProgress, clearProgress }) => {
    const prompts = await client.prompts({ signal });
    const found = prompts.find((each) => each.name === name);
    if (found === undefined) {
      const near = nearest(
        name,
        prompts.map((each) => each.name),
      );
      throw new JexoError(
        'JEXO_TOOL_UNKNOWN',
        `${showTarget(target)} has no prompt ${name}.${near === undefined ? '' : ` Did you mean ${near}?`}`,
        {
          where: name,
          next: `Its prompts are: ${prompts.map((each) => each.name).join(', ')}`,
        },
      );
    }
    const schema = schemaOf(found);
    const input = await askMissing(schema, readPairs(pairs, schema), signal);
    if (printCopy(target, { kind: 'prompt', name, input }, options)) return;
    const rendered = await client.prompt(name, input as Record<string, string>, { signal, onProgress }).catch((error: unknown) => {
      throw asInvalidInput(error, name);
    });
    clearProgress();
    if (options.keep !== undefined) await keepPrompt(options.keep, target, { subject: name, input }, rendered);
    if (options.json) return printJson(JSON.stringify(rendered, null, 2));
    rendered.messages.forEach(({ role, content }, index) => {
      if (index > 0) print('');
      print(onOut('quiet', role));
      for (const block of [content].flat() as ContentBlock[]) print(blockText(block));
    });
  });
}

/** The protocol gives a prompt's arguments as texts. */
function schemaOf({ arguments: args = [] }: Prompt): JsonSchema {
  return {
    type: 'object',
    properties: Object.fromEntries(
      args.map(({ name, description }) => [name, { type: 'string', ...(description !== undefined && { description }) }]),
    ),
    required: args.filter(({ required }) => required).map(({ name }) => name),
  };
}

export const command: CliCommand<ClientCommandOptions & KeepOptions> = {
  name: 'prompt',
  about: 'render a prompt',
  operands: ['[target]', '[prompt]', '[argument=value...]'],
  options: [...keepOptions, ...clientOptions],
  takes: ['open', 'connect'],
  chooses: true,
  help: `Examples:
  jexo prompt apiary.ts inspection_summary hive=MR-03
  jexo prompt apiary.ts lot_label lot=H-204 language=fr --json`,
  run: prompt,
};
