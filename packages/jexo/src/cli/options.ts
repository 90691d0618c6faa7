import type { Choice } from '../offers/choose.js';
import { readPair } from '../targets/read-pair.js';
import { list, number } from '../plans/resolve-settings.js';
import type { CliOption } from './command.js';

export { collect, list, number, port } from '../plans/resolve-settings.js';

export const json: CliOption = { flags: '--json', about: 'print exact JSON to stdout, for scripts' };
export const wireLog: CliOption = {
  flags: '--wire-log <file>',
  about: 'write every message to this file as a line of JSON, with secrets masked',
};
export const wire: CliOption = { flags: '--wire', about: 'print every message to stderr, with secrets masked' };
export const modelOptions: readonly CliOption[] = [
  { flags: '--model-url <url>', about: 'a chat-completions service; its key is read from JEXO_MODEL_KEY' },
  { flags: '--model <name>', about: 'the model’s name' },
];
export const standIn: CliOption = {
  flags: '--stand-in',
  about: 'let the stand-in answer a server that asks for a model; it is not a model and says so',
};

/** What may be done with a call beside making it. */
export const keepOptions: readonly CliOption[] = [
  { flags: '--keep <sheet>', about: 'add the call and its answer to a call sheet (*.calls.yaml) for replay' },
  { flags: '--as <form>', about: 'print the call in this form instead of making it', choices: ['command', 'typescript', 'http'] },
];

/** The options of every command that talks to a server as a client. */
export const clientOptions: readonly CliOption[] = [
  {
    flags: '--timeout <seconds>',
    about: 'give up after this many seconds without an answer',
    default: 60,
    read: number('--timeout', 1, 86_400),
  },
  wire,
  wireLog,
  json,
];

/** The options that choose among what a target offers, and shape it. */
export const choiceOptions: readonly CliOption[] = [
  {
    flags: '--only <names>',
    about: 'offer only these: names, patterns such as mix_*, or tag:scales; comma-separated or repeated',
    read: list,
  },
  { flags: '--except <names>', about: 'offer all but these', read: list },
  { flags: '--rename <old=new>', about: 'rename a tool, resource or prompt; may be repeated', read: readPair('--rename', 'old=new') },
  {
    flags: '--describe <name=text>',
    about: 'replace a description; may be repeated',
    read: readPair('--describe', 'name=text'),
  },
  { flags: '--prefix <text>', about: 'a prefix for the names of all tools and prompts' },
];

/** The choice among a command's values; undefined when nothing was chosen. */
export function choiceOf({ only, except, rename, describe, prefix }: Choice): Choice | undefined {
  const given = Object.entries({ only, except, rename, describe, prefix }).filter(([, value]) => value !== undefined);
  return given.length > 0 ? Object.fromEntries(given) : undefined;
}
