import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { Completion } from '../protocol/types.js';
import { nearest } from './nearest.js';
import type { PromptOffer, TemplateOffer } from './offer.js';

/** What a completer knows beside the text it completes. */
export interface CompletionContext {
  /** Arguments or variables that are already known. */
  readonly arguments: Readonly<Record<string, string>>;
}

/** Suggestions: a list that Jexo ranks by what was typed, or a function that gives such a list, or the exact answer. */
export type Completer = readonly string[] | ((typed: string, context: CompletionContext) => Suggested | Promise<Suggested>);
type Suggested = readonly string[] | Completion;

/** The protocol allows no more (Server utilities, "Completion"). */
const most = 100;

/** How well a value fits what was typed; undefined when it does not. Lower is better. */
function fit(value: string, typed: string): number | undefined {
  const text = value.toLowerCase();
  const at = text.indexOf(typed);
  if (at === 0) return 0;
  if (at > 0) return /[\s_./-]/.test(text[at - 1]!) ? 1 : 2;
  let found = 0;
  for (const letter of text) if (letter === typed[found]) found++;
  return found === typed.length ? 3 : undefined;
}

/** Ranks values: those that start with what was typed first, then those that hold it, then those that hold its letters in order. */
export function rank(values: readonly string[], typed: string): Completion {
  const wanted = typed.toLowerCase();
  const fitting = values.flatMap((value, index) => {
    const quality = fit(value, wanted);
    return quality === undefined ? [] : [{ value, quality, index }];
  });
  fitting.sort((a, b) => a.quality - b.quality || a.index - b.index);
  const all = [...new Set(fitting.map(({ value }) => value))];
  return { values: all.slice(0, most), total: all.length, hasMore: all.length > most };
}

/** What is completed. */
export interface CompletionInput {
  /** The argument or variable. */
  readonly argument: string;
  /** What was typed of it. */
  readonly value: string;
  /** Arguments or variables that are already known. */
  readonly arguments: Readonly<Record<string, string>>;
}

/** Completes one argument of a prompt or one variable of a template. */
export async function complete(
  offer: PromptOffer | TemplateOffer,
  { argument: name, value, arguments: known }: CompletionInput,
): Promise<{ completion: Completion }> {
  const names = offer.kind === 'prompt' ? offer.arguments.map((argument) => argument.name) : offer.template.variables;
  if (!names.includes(name)) {
    const near = nearest(name, names);
    throw new RpcError(errorCodes.invalidParams, `Unknown argument: ${name}.${near === undefined ? '' : ` Did you mean ${near}?`}`);
  }
  const completer = offer.complete !== undefined && Object.hasOwn(offer.complete, name) ? offer.complete[name] : undefined;
  if (completer === undefined) return { completion: { values: [], total: 0, hasMore: false } };
  const suggested = typeof completer === 'function' ? await completer(value, { arguments: known }) : completer;
  if (isCompletion(suggested)) {
    const { values } = suggested;
    return { completion: { ...suggested, values: values.slice(0, most), ...(values.length > most && { hasMore: true }) } };
  }
  return { completion: rank(suggested, value) };
}

function isCompletion(value: Suggested): value is Completion {
  return !Array.isArray(value);
}
