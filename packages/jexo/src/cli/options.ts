import { Option, type Command } from 'commander';
import { JexoError } from '../errors.js';
import type { Choice } from '../offers/choose.js';

export const number = (name: string, least: number, most: number) => (text: string) => {
  const value = Number(text);
  if (text.trim() === '' || !Number.isInteger(value) || value < least || value > most)
    throw new JexoError('JEXO_USAGE', `${name} must be a whole number from ${least} to ${most}; ${JSON.stringify(text)} is not.`, {
      where: name,
    });
  return value;
};
export const port = (name: string) => number(name, 0, 65535);
export const json = () => new Option('--json', 'print exact JSON to stdout, for scripts');
export const wireLog = () =>
  new Option('--wire-log <file>', 'write every message that passes into this file, a line of JSON each, secrets masked');
export const wire = () => new Option('--wire', 'print every message as it passes, on stderr, secrets masked');
export const modelUrl = () =>
  new Option('--model-url <url>', 'a model behind the chat-completions JSON, to rehearse with; its key is taken from JEXO_MODEL_KEY');
export const modelName = () => new Option('--model <name>', 'which of its models');
export const standIn = () =>
  new Option('--stand-in', 'answer a server that asks for a model by the stand-in, which is no model and says so');
export const header = () => new Option('--header <name: value...>', 'send this header with every HTTP request');
export const list = (text: string, before: string[] = []) => [
  ...before,
  ...text
    .split(',')
    .map((each) => each.trim())
    .filter((each) => each !== ''),
];
export const collect = (text: string, before: string[] = []) => [...before, text];

/** What may be done with a call beside making it. */
export function withKeeping(command: Command): Command {
  return command
    .option('--keep <sheet>', 'put the call and its answer on a call sheet, *.calls.yaml, to be replayed')
    .addOption(new Option('--as <form>', 'print the call in this form in place of making it').choices(['command', 'typescript', 'http']));
}

/** The options that choose among what a module or a package offers, and shape it. */
export function withChoice(command: Command): Command {
  const pair =
    (name: string, form: string) =>
    (text: string, before: Record<string, string> = {}) => {
      const [key, value] = splitPair(text);
      if (key === '' || value === '')
        throw new JexoError('JEXO_USAGE', `${name} wants ${form}; ${JSON.stringify(text)} is not that.`, { where: name });
      return { ...before, [key]: value };
    };
  return command
    .addOption(
      new Option('--only <names>', 'offer only these: names, patterns as mix_*, or tag:scales; comma-separated or repeated').argParser(
        list,
      ),
    )
    .addOption(new Option('--except <names>', 'offer all but these').argParser(list))
    .addOption(new Option('--rename <old=new>', 'give an offer another name; may be repeated').argParser(pair('--rename', 'old=new')))
    .addOption(
      new Option('--describe <name=text>', 'give an offer another description; may be repeated').argParser(pair('--describe', 'name=text')),
    )
    .option('--prefix <text>', 'put this before the name of every tool and prompt')
    .option('--base <url>', 'of a document: where its API is')
    .addOption(new Option('--as-search', 'of a document: offer three tools that find, show and invoke its operations'))
    .addOption(
      new Option('--body-type <operation=type>', 'of a document: how a body is sent that takes several types; may be repeated').argParser(
        pair('--body-type', 'operation=type'),
      ),
    )
    .addOption(
      new Option(
        '--secret <scheme=NAME>',
        'of a document: the variable that the secret of a security scheme is read from; may be repeated',
      ).argParser(pair('--secret', 'scheme=NAME')),
    )
    .option('--resources', 'of a document: offer what can be read as resources too')
    .option('--pick', 'of a document: let callers choose fields of an answer by JMESPath');
}

/** The options of every command that talks to a server as a client. */
export function withClientOptions(command: Command): Command {
  return command
    .addOption(header().argParser(collect))
    .addOption(
      new Option('--timeout <seconds>', 'give up after so many seconds without an answer')
        .default(60)
        .argParser(number('--timeout', 1, 86_400)),
    )
    .addOption(wire())
    .addOption(wireLog())
    .addOption(json());
}

function splitPair(text: string): [string, string] {
  const at = text.indexOf('=');
  return at < 0 ? ['', ''] : [text.slice(0, at).trim(), text.slice(at + 1).trim()];
}

type ChoiceOptions = Choice & Record<string, unknown>;

/** The choice among a command's options; none when nothing was chosen. */
export function choiceOf({ only, except, rename, describe, prefix, base, asSearch, bodyType, secret, resources, pick }: ChoiceOptions): {
  choice?: Choice;
  rest?: object;
} {
  const choice = Object.fromEntries(Object.entries({ only, except, rename, describe, prefix }).filter(([, value]) => value !== undefined));
  const rest = Object.fromEntries(
    Object.entries({ base, as: asSearch ? 'search' : undefined, bodyTypes: bodyType, secrets: secret, resources, pick }).filter(
      ([, value]) => value !== undefined,
    ),
  );
  return { ...(Object.keys(choice).length > 0 && { choice }), ...(Object.keys(rest).length > 0 && { rest }) };
}
