import { propertiesOf, requiredOf } from '../protocol/json-schema.js';
import type { JsonSchema } from '../protocol/types.js';
import { numberOf, stemOf, wordsOf } from './words.js';

/** What of an input a request tells, and which required parts it does not. */
export interface InputRead {
  readonly input: Record<string, unknown>;
  readonly missing: readonly string[];
}

const formats: Readonly<Record<string, RegExp>> = {
  date: /\b\d{4}-\d\d-\d\d\b/,
  'date-time': /\b\d{4}-\d\d-\d\dT\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:\d\d)?\b/,
  email: /\b[\w.+-]+@[\w-]+(?:\.[\w-]+)+\b/,
  uri: /\bhttps?:\/\/[^\s"'<>]+/,
};

/** How many words to either side of a number speak for what it counts. */
const reach = 3;

/**
 * Fills in a tool's input from a request in plain words, by rules: choices that are named, texts that fit a pattern or a format,
 * quoted texts, what stands behind a parameter's own name, and numbers by the words around them.
 */
export function readInput(request: string, schema: JsonSchema): InputRead {
  const properties = Object.entries(propertiesOf(schema));
  const required = new Set(requiredOf(schema));
  const input: Record<string, unknown> = {};
  let rest = request;
  const take = (text: string) => (rest = rest.replace(text, ' '));

  for (const [name, each] of properties) {
    const found = fromPattern(rest, each);
    if (found === undefined) continue;
    input[name] = found.value;
    found.texts.forEach(take);
  }
  for (const [name, each] of properties) {
    if (name in input) continue;
    const value = fromChoices(rest, each) ?? fromName(rest, name, each);
    if (value !== undefined) input[name] = value;
  }
  Object.assign(
    input,
    numbersOf(
      rest,
      properties.filter(([name, each]) => !(name in input) && isNumber(each)),
      required,
    ),
  );
  const quoted = [...rest.matchAll(/["“]([^"”]+)["”]/g)].map(([, text]) => text!);
  for (const [name, each] of properties)
    if (!(name in input) && required.has(name) && isFreeText(each) && quoted.length > 0) input[name] = quoted.shift();
  return { input, missing: [...required].filter((name) => !(name in input)) };
}

const kindOf = ({ type }: JsonSchema) => [type].flat()[0] as string | undefined;
const isNumber = (schema: JsonSchema) => kindOf(schema) === 'number' || kindOf(schema) === 'integer';
const isFreeText = (schema: JsonSchema) =>
  kindOf(schema) === 'string' && schema.enum === undefined && schema.pattern === undefined && schema.format === undefined;

function fromPattern(text: string, schema: JsonSchema): { value: unknown; texts: string[] } | undefined {
  if (kindOf(schema) === 'array') {
    const pattern = textPattern((schema.items ?? {}) as JsonSchema);
    const all = pattern === undefined ? [] : [...text.matchAll(new RegExp(pattern.source, `${pattern.flags}g`))].map(([found]) => found);
    return all.length === 0 ? undefined : { value: all, texts: all };
  }
  const found = textPattern(schema)?.exec(text)?.[0];
  return found === undefined ? undefined : { value: found, texts: [found] };
}

function textPattern({ pattern, format }: JsonSchema): RegExp | undefined {
  if (typeof format === 'string' && format in formats) return formats[format];
  if (typeof pattern !== 'string') return undefined;
  const bare = pattern.replace(/^\^/, '').replace(/(?<!\\)\$$/, '');
  try {
    new RegExp(bare, 'u'); // by itself: what stands around it below could complete it
    const found = new RegExp(`(?<![\\w-])(?:${bare})(?![\\w-])`, 'u');
    return found.test('') ? undefined : found; // one that fits nothing at all would fit anywhere
  } catch {
    return undefined; // written for another kind of regular expression
  }
}

/** A choice whose words are in the request, the longest first. */
function fromChoices(text: string, schema: JsonSchema): unknown {
  const said = ` ${wordsOf(text)
    .map((word) => stemOf(word) ?? word.toLowerCase())
    .join(' ')} `;
  const listed = ((schema.oneOf ?? schema.anyOf) as JsonSchema[] | undefined) ?? [];
  const choices = [
    ...((schema.enum as unknown[] | undefined) ?? []).map((value) => ({ value, words: String(value) })),
    ...listed
      .filter((each) => each.const !== undefined)
      .flatMap(({ const: value, title }) =>
        [String(value), ...(typeof title === 'string' ? [title] : [])].map((words) => ({ value, words })),
      ),
  ];
  choices.sort((a, b) => b.words.length - a.words.length);
  return choices.find(({ words, value }) => {
    if (/^[A-Z]{2,}$/.test(String(value)) && words === value) return new RegExp(`\\b${words}\\b`).test(text);
    const stems = wordsOf(words).map((word) => stemOf(word) ?? word.toLowerCase());
    return stems.length > 0 && said.includes(` ${stems.join(' ')} `);
  })?.value;
}

/** What stands behind a parameter's own name, as in `lot H-204`; a flag is set by being named. */
function fromName(text: string, name: string, schema: JsonSchema): unknown {
  const spoken = wordsOf(name).join(String.raw`[\s_-]+`);
  if (kindOf(schema) === 'boolean') {
    if (new RegExp(`\\b(?:no|not|without)\\s+(?:\\w+\\s+)?${spoken}\\b`, 'i').test(text)) return false;
    return new RegExp(`\\b${spoken}\\b`, 'i').test(text) ? true : undefined;
  }
  if (!isFreeText(schema)) return undefined;
  const behind = new RegExp(`\\b${spoken}\\s+(?:is\\s+|called\\s+|named\\s+)?(?:["“]([^"”]+)["”]|([A-Z\\d][\\w-]*))`).exec(text);
  return behind?.[1] ?? behind?.[2];
}

/** Each number goes to the parameter the words around it speak for; what is left over, to the required ones in their order. */
function numbersOf(
  text: string,
  wanted: readonly (readonly [string, JsonSchema])[],
  required: ReadonlySet<string>,
): Record<string, number> {
  const words = wordsOf(text);
  const about = new Map(
    wanted.map(([name, { description, title }]) => [
      name,
      new Set(
        wordsOf([name, description, title].filter((each) => typeof each === 'string').join(' '))
          .map(stemOf)
          .filter((stem) => stem !== undefined),
      ),
    ]),
  );
  const given = words.flatMap((word, at) => {
    const value = numberOf(word);
    if (value === undefined) return [];
    const near = [...words.slice(Math.max(0, at - reach), at), ...words.slice(at + 1, at + 1 + reach)];
    const isShare = word.endsWith('%');
    return [{ value, at, stems: [...near.map(stemOf), ...(isShare ? [stemOf('percent')] : [])] }];
  });
  const pairs = given.flatMap((number) =>
    wanted.map(([name]) => ({ number, name, fit: number.stems.filter((stem) => stem !== undefined && about.get(name)!.has(stem)).length })),
  );
  pairs.sort((a, b) => b.fit - a.fit || a.number.at - b.number.at);
  const input: Record<string, number> = {};
  const used = new Set<number>();
  for (const { number, name, fit } of pairs) {
    if (fit === 0 || name in input || used.has(number.at)) continue;
    input[name] = number.value;
    used.add(number.at);
  }
  const left = given.filter(({ at }) => !used.has(at));
  for (const [name] of wanted) if (required.has(name) && !(name in input) && left.length > 0) input[name] = left.shift()!.value;
  return input;
}
