import { readFile } from 'node:fs/promises';
import { fileURLToPath } from 'node:url';
import type { GraphQLSchema, IntrospectionQuery } from 'graphql';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import type { GraphQL } from './library.js';
import type { SchemaPlace } from './graphql-options.js';

/** A schema, with the files it was read from. */
export interface ReadSchema {
  readonly schema: GraphQLSchema;
  readonly files: readonly string[];
  /** What is wrong with it, though it can be used. */
  readonly fault?: string;
}

/** True for an address that is asked for its schema. */
export const isEndpoint = (place: SchemaPlace): boolean =>
  /^https?:/i.test(String(place)) && !/\.(?:graphqls?|gql|json)(?:\?|$)/i.test(String(place));

/**
 * Reads a schema from a file, an address of a file, or an introspection.
 *
 * @param introspect asks an endpoint what it offers
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_SYNTAX with line and column, JEXO_DOCUMENT
 */
export async function readSchema(
  g: GraphQL,
  place: SchemaPlace,
  { introspect, signal, frozen }: { introspect(): Promise<unknown>; signal: AbortSignal; frozen?: string },
): Promise<ReadSchema> {
  if (frozen !== undefined) return { ...fromText(g, frozen, String(place)), files: [] };
  if (typeof place === 'object' && !(place instanceof URL)) return { schema: fromIntrospection(g, place, 'the introspection'), files: [] };
  const text = String(place);
  if (isEndpoint(place)) return { schema: fromIntrospection(g, await introspect(), text), files: [] };
  if (/^https?:/i.test(text)) return { ...fromText(g, await download(text, signal), text), files: [] };
  if (/[\n{]/.test(text)) return { ...fromText(g, text, 'as it was given'), files: [] };
  const file = place instanceof URL ? fileURLToPath(place) : text;
  try {
    return { ...fromText(g, await readFile(file, 'utf8'), file), files: [file] };
  } catch (error) {
    if (error instanceof JexoError) throw error;
    throw new JexoError('JEXO_TARGET_MISSING', `The schema ${file} cannot be read: ${messageOf(error)}`, { where: file, cause: error });
  }
}

async function download(url: string, signal: AbortSignal): Promise<string> {
  const response = await fetch(url, { signal }).catch((error: unknown) => {
    throw new JexoError('JEXO_CONNECT', `The schema ${url} cannot be fetched: ${messageOf(error)}`, { where: url, cause: error });
  });
  if (!response.ok)
    throw new JexoError('JEXO_HTTP_STATUS', `The schema ${url} cannot be fetched: HTTP ${response.status}.`, { where: url });
  return response.text();
}

function fromText(g: GraphQL, text: string, where: string): Omit<ReadSchema, 'files'> {
  if (/^\s*\{\s*"/.test(text)) {
    try {
      return { schema: fromIntrospection(g, JSON.parse(text), where) };
    } catch (error) {
      if (!(error instanceof SyntaxError)) throw error;
      throw new JexoError('JEXO_SYNTAX', `${where} is no JSON: ${messageOf(error)}`, { where, cause: error });
    }
  }
  let schema: GraphQLSchema;
  try {
    schema = g.buildSchema(text);
  } catch (error) {
    const lenient = buildAllTheSame(g, text);
    if (lenient !== undefined)
      return { schema: lenient, fault: `The schema ${where} is not quite right: ${messageOf(error).split('\n')[0]}` };
    const at = placeOf(g, error) ?? placeOfName(g, text, messageOf(error));
    throw new JexoError('JEXO_SYNTAX', `The schema is wrong: ${messageOf(error)}`, {
      where: at === undefined ? where : `${where}:${at}`,
      cause: error,
    });
  }
  return { schema: checked(g, schema, where) };
}

/** Schemas of real services break rules now and then, such as a field that is defined twice, and can be used all the same. */
function buildAllTheSame(g: GraphQL, text: string): GraphQLSchema | undefined {
  try {
    const schema = g.buildSchema(text, { assumeValidSDL: true });
    return g.validateSchema(schema).length === 0 ? schema : undefined;
  } catch {
    return undefined; // the first error says what is wrong
  }
}

function fromIntrospection(g: GraphQL, given: unknown, where: string): GraphQLSchema {
  const value = isRecord(given) && isRecord(given.data) ? given.data : given;
  if (!isRecord(value) || !isRecord(value.__schema))
    throw new JexoError('JEXO_DOCUMENT', `${where} is no introspection: it has no __schema.`, { where });
  try {
    return checked(g, g.buildClientSchema(value as unknown as IntrospectionQuery), where);
  } catch (error) {
    if (error instanceof JexoError) throw error;
    throw new JexoError('JEXO_DOCUMENT', `The introspection of ${where} is wrong: ${messageOf(error)}`, { where, cause: error });
  }
}

function checked(g: GraphQL, schema: GraphQLSchema, where: string): GraphQLSchema {
  const [first] = g.validateSchema(schema);
  if (first === undefined) return schema;
  const at = placeOf(g, first);
  throw new JexoError('JEXO_DOCUMENT', `The schema is wrong: ${first.message}`, { where: at === undefined ? where : `${where}:${at}` });
}

/** The library reports unknown names without their place: the first mention is taken. */
function placeOfName(g: GraphQL, text: string, message: string): string | undefined {
  const name = /"@?(\w+)"/.exec(message)?.[1];
  let at: string | undefined;
  g.visit(g.parse(text), {
    Name({ value, loc }) {
      if (value === name && loc !== undefined) at ??= `${loc.startToken.line}:${loc.startToken.column}`;
    },
  });
  return at;
}

/** `4:12` of an error of the library. */
export function placeOf(g: GraphQL, error: unknown): string | undefined {
  const location = error instanceof g.GraphQLError ? error.locations?.[0] : undefined;
  return location === undefined ? undefined : `${location.line}:${location.column}`;
}
