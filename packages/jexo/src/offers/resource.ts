import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { Annotations, ReadResourceResult, Resource, ResourceContents } from '../protocol/types.js';
import { parseTemplate, type UriTemplate } from '../protocol/uri-template.js';
import { isRecord } from '../protocol/is-record.js';
import type { Call } from './call.js';
import type { Completer } from './completion.js';
import { checkIcons, definitionError, requireName, type Description, type ResourceOffer, type TemplateOffer } from './offer.js';

/** What a reader may give: a text, bytes, any JSON value, the contents themselves; undefined means there is no such resource. */
export type Readable = string | Uint8Array | ReadResourceResult | ResourceContents | readonly ResourceContents[] | object | undefined;

/** What `resource` takes beside the URI and the function. */
export interface ResourceDefinition extends Description {
  /** Default: the URI. */
  readonly name?: string;
  /** Default: by what the reader returns. */
  readonly mimeType?: string;
  /** Bytes, before base64. */
  readonly size?: number;
  /** For whom it is, and how important. */
  readonly annotations?: Annotations;
  /** Calls `changed` whenever the contents do, while somebody is subscribed; returns how to stop. */
  readonly watch?: (changed: () => void) => () => void;
}

/**
 * Describes one resource (Server features, "Resources").
 *
 * @param uri absolute; an own scheme is fine: `handbook://swarming`
 * @throws JexoError JEXO_DEFINITION
 * @example
 * resource('handbook://swarming', { title: 'Swarming', mimeType: 'text/markdown' }, () => readFile('swarming.md', 'utf8'));
 */
export function resource(
  uri: string,
  definition: ResourceDefinition,
  read: (request: { readonly uri: string }, call: Call) => Readable | Promise<Readable>,
): ResourceOffer {
  const { name = uri, ...rest } = definition;
  requireName('resource', name, read);
  const where = `resource ${uri}`;
  // Own schemes follow RFC 3986 (Server features, "Common URI schemes").
  if (!isUri(uri)) throw definitionError(where, new Error(`${JSON.stringify(uri)} is not an absolute URI, as handbook://swarming is.`));
  checkIcons(where, definition.icons);
  return { kind: 'resource', uri, name, ...rest, run: read as ResourceOffer['run'] };
}

export function isUri(text: string): boolean {
  return /^[A-Za-z][A-Za-z0-9+.-]*:[^\s<>"{}|\\^`]*$/.test(text);
}

/** The variables of a template, by its text: `hive://{apiary}/{hive}` gives `{ apiary: string; hive: string }`. */
export type Variables<T extends string> = string extends T ? Record<string, string | string[]> : Flat<Union<Expressions<T>>>;
type Expressions<T extends string> = T extends `${string}{${infer E}}${infer Rest}`
  ? Names<Bare<E>, OptionalOf<E>> | Expressions<Rest>
  : never;
type OptionalOf<E extends string> = E extends `${'?' | '&' | ';' | '#' | '/' | '.'}${string}` ? true : false;
type Bare<E extends string> = E extends `${'+' | '#' | '.' | '/' | ';' | '?' | '&'}${infer Rest}` ? Rest : E;
type Names<E extends string, O extends boolean> = E extends `${infer First},${infer Rest}` ? One<First, O> | Names<Rest, O> : One<E, O>;
type One<V extends string, O extends boolean> = V extends `${infer N}*`
  ? Field<N, string[], O>
  : V extends `${infer N}:${number}`
    ? Field<N, string, O>
    : Field<V, string, O>;
type Field<N extends string, T, O extends boolean> = O extends true ? { [K in N]?: T } : { [K in N]: T };
type Union<U> = (U extends unknown ? (each: U) => void : never) extends (each: infer I) => void ? I : never;
type Flat<T> = { [K in keyof T]: T[K] };

/** What `template` takes beside the URI template and the function. */
export interface TemplateDefinition<T extends string> extends Description {
  /** Clients list it by this name. */
  readonly name: string;
  /** Only when every resource of this form has it. */
  readonly mimeType?: string;
  /** For whom they are, and how important. */
  readonly annotations?: Annotations;
  /** Suggestions for a variable: a list, or a function of what was typed and of the variables already known. */
  readonly complete?: { readonly [V in keyof Variables<T>]?: Completer };
  /** Resources of this form that are worth naming in the list. */
  readonly list?: () => readonly Resource[] | Promise<readonly Resource[]>;
  /** Calls `changed` whenever the resource at `uri` changes; returns how to stop. */
  readonly watch?: (changed: () => void, uri: string) => () => void;
}

/**
 * Describes resources by a URI template (RFC 6570); the reader's variables are typed by it.
 *
 * @throws JexoError JEXO_DEFINITION for text that is no template
 * @example
 * template('hive://{apiary}/{hive}', { name: 'hive', complete: { apiary: ['MR', 'UC'] } }, ({ apiary, hive }) => find(apiary, hive));
 */
export function template<const T extends string>(
  uriTemplate: T,
  definition: TemplateDefinition<T>,
  read: (variables: Variables<T>, call: Call, request: { readonly uri: string }) => Readable | Promise<Readable>,
): TemplateOffer {
  const where = `template ${uriTemplate}`;
  requireName('template', definition.name, read);
  checkIcons(where, definition.icons);
  let parsed: UriTemplate;
  try {
    parsed = parseTemplate(uriTemplate);
  } catch (error) {
    throw definitionError(where, error);
  }
  const { complete, ...rest } = definition;
  return {
    kind: 'template',
    template: parsed,
    ...rest,
    complete: complete as TemplateOffer['complete'],
    run: read as unknown as TemplateOffer['run'],
  };
}

/** Makes the answer of `resources/read` of what a reader gave. */
export function toContents(value: unknown, uri: string, mimeType: string | undefined): ReadResourceResult {
  if (value === undefined || value === null) throw notFound(uri);
  if (typeof value === 'string') return { contents: [{ uri, ...(mimeType !== undefined && { mimeType }), text: value }] };
  if (value instanceof Uint8Array) return { contents: [{ uri, mimeType: mimeType ?? 'application/octet-stream', blob: toBase64(value) }] };
  if (Array.isArray(value) && value.length > 0 && value.every(isContents)) return { contents: value as ResourceContents[] };
  if (isContents(value)) return { contents: [value] };
  if (isRecord(value) && Array.isArray(value.contents) && value.contents.every(isContents)) return value as unknown as ReadResourceResult;
  return { contents: [{ uri, mimeType: mimeType ?? 'application/json', text: JSON.stringify(value, null, 2) }] };
}

/** The error for a URI that names nothing (Server features, "Resources", "Error Handling"). */
export function notFound(uri: string): RpcError {
  return new RpcError(errorCodes.resourceNotFound, `Resource not found: ${uri}`, { uri });
}

function isContents(value: unknown): value is ResourceContents {
  return isRecord(value) && typeof value.uri === 'string' && (typeof value.text === 'string' || typeof value.blob === 'string');
}

function toBase64(bytes: Uint8Array): string {
  const { Buffer: NodeBuffer } = globalThis as {
    Buffer?: { from(buffer: ArrayBufferLike, start: number, length: number): { toString(encoding: string): string } };
  };
  if (NodeBuffer !== undefined) return NodeBuffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).toString('base64');
  let binary = '';
  for (let at = 0; at < bytes.length; at += 0x8000) binary += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(binary);
}
