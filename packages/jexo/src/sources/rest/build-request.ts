import { isRecord } from '../../protocol/is-record.js';
import { isEnvSetting, readSetting } from '../setting.js';
import type { Settings } from '../../offers/source.js';
import type { Operation, PartEncoding } from './operation.js';
import type { OperationInput, Target } from './operation-input.js';
import { toCookie, toHeader, toPath, toQuery } from './serialise.js';

/** A request, complete but for what proves who we are. */
export interface BuiltRequest {
  readonly method: string;
  /** Path and query, to be put behind the base. */
  readonly path: string;
  readonly headers: Record<string, string>;
  readonly cookies: string[];
  readonly body?: string | Uint8Array<ArrayBuffer> | FormData;
}

/** @throws TypeError in words for the caller, when a value cannot be sent */
export function buildRequest(
  operation: Operation,
  { targets, fixed, defaults, mediaType, binary }: OperationInput,
  input: Readonly<Record<string, unknown>>,
  settings: Settings,
): BuiltRequest {
  let { path } = operation;
  const query: string[] = [];
  const headers: Record<string, string> = {};
  const cookies: string[] = [];
  const fields: Record<string, unknown> = {};
  let whole: unknown;
  const put = (target: Target, value: unknown) => {
    if (value === undefined) return;
    if ('whole' in target) whole = value;
    else if ('field' in target) fields[target.field] = value;
    else {
      const { parameter } = target;
      if (parameter.in === 'path') {
        const text = toPath(value, parameter);
        // A dot or two would be taken for a step up, in whatever way they are written.
        if (/^\.{1,2}$/.test(text))
          throw new TypeError(`${parameter.name} cannot be ${JSON.stringify(value)}: that would lead to another path`);
        if (text === '') throw new TypeError(`${parameter.name} is empty, and would lead to another path`);
        path = path.replace(`{${parameter.name}}`, () => text);
      } else if (value === null) return;
      else if (parameter.in === 'query') query.push(...toQuery(value, parameter));
      else if (parameter.in === 'cookie') cookies.push(...toCookie(value, parameter));
      else headers[parameter.name] = toHeader(value, parameter);
    }
  };
  for (const [target, value] of fixed) put(target, isEnvSetting(value) ? readSetting(value, 'A fixed input', settings) : value);
  for (const [name, target] of targets) put(target, input[name] ?? (name in input ? input[name] : defaults.get(name)));
  const hasFields = Object.keys(fields).length > 0;
  const isForm = mediaType !== undefined && /form/i.test(mediaType);
  const value =
    whole ??
    (hasFields || (operation.body?.required && !isForm && [...targets.values()].some((target) => 'field' in target)) ? fields : undefined);
  const body =
    value === undefined || mediaType === undefined ? undefined : encodeBody(value, mediaType, operation.body?.encoding ?? {}, binary);
  if (body !== undefined && !(body instanceof FormData)) headers['Content-Type'] = mediaType!;
  const accept = operation.answer?.mediaType;
  headers.Accept =
    accept === undefined || accept.includes('*')
      ? 'application/json, */*;q=0.5'
      : /json/i.test(accept)
        ? `${accept}, application/problem+json, */*;q=0.5`
        : `${accept}, */*;q=0.5`;
  return {
    method: operation.method,
    path: path + (query.length > 0 ? `?${query.join('&')}` : ''),
    headers,
    cookies,
    ...(body !== undefined && { body }),
  };
}

function encodeBody(
  value: unknown,
  mediaType: string,
  encoding: Readonly<Record<string, PartEncoding>>,
  binary: ReadonlySet<string>,
): BuiltRequest['body'] {
  if (/\bjson\b/i.test(mediaType)) return JSON.stringify(value);
  if (/^application\/x-www-form-urlencoded/i.test(mediaType)) return toForm(isRecord(value) ? value : {}, encoding);
  if (/^multipart\//i.test(mediaType)) return toMultipart(isRecord(value) ? value : {}, encoding, binary);
  if (typeof value !== 'string') return JSON.stringify(value);
  return /^text\/|xml/i.test(mediaType) ? value : bytesOf(value, 'the body').bytes;
}

function toForm(value: Record<string, unknown>, encoding: Readonly<Record<string, PartEncoding>>): string {
  return Object.entries(value)
    .flatMap(([name, item]) => {
      const { style, explode, allowReserved = false, contentType } = encoding[name] ?? {};
      const isJson = contentType !== undefined && /json/i.test(contentType);
      const plain = style === undefined && explode === undefined && isRecord(item);
      return toQuery(item, {
        name,
        style: style ?? 'form',
        explode: explode ?? (style ?? 'form') === 'form',
        allowReserved,
        ...((isJson || plain) && { content: 'application/json' }),
      });
    })
    .join('&');
}

function toMultipart(
  value: Record<string, unknown>,
  encoding: Readonly<Record<string, PartEncoding>>,
  binary: ReadonlySet<string>,
): FormData {
  const form = new FormData();
  for (const [name, item] of Object.entries(value))
    for (const part of Array.isArray(item) ? (item as unknown[]) : [item]) {
      const declared = encoding[name]?.contentType?.split(',')[0]?.trim();
      if (binary.has(name) && typeof part === 'string') {
        const { bytes, type } = bytesOf(part, name);
        const mime = type ?? (declared !== undefined && !declared.includes('*') ? declared : sniff(bytes));
        form.append(name, new Blob([bytes], { type: mime }), `${name}.${extensions[mime] ?? 'bin'}`);
      } else if (typeof part === 'object' && part !== null)
        form.append(name, new Blob([JSON.stringify(part)], { type: declared ?? 'application/json' }));
      else if (declared !== undefined && !/^text\/plain/i.test(declared)) form.append(name, new Blob([String(part)], { type: declared }));
      else form.append(name, String(part));
    }
  return form;
}

const extensions: Readonly<Record<string, string>> = {
  'image/png': 'png',
  'image/jpeg': 'jpg',
  'image/gif': 'gif',
  'image/webp': 'webp',
  'application/pdf': 'pdf',
  'text/plain': 'txt',
  'text/csv': 'csv',
};

function sniff(bytes: Uint8Array): string {
  const begins = (...head: number[]) => head.every((byte, index) => bytes[index] === byte);
  if (begins(0x89, 0x50, 0x4e, 0x47)) return 'image/png';
  if (begins(0xff, 0xd8, 0xff)) return 'image/jpeg';
  if (begins(0x47, 0x49, 0x46, 0x38)) return 'image/gif';
  return begins(0x25, 0x50, 0x44, 0x46) ? 'application/pdf' : 'application/octet-stream';
}

function bytesOf(text: string, name: string): { bytes: Uint8Array<ArrayBuffer>; type?: string } {
  const [, type, base64] = /^data:([^;,]+)?[^,]*;base64,(.*)$/s.exec(text) ?? [undefined, undefined, text];
  const plain = base64!.replaceAll(/\s/g, '').replaceAll('-', '+').replaceAll('_', '/');
  if (!/^[A-Za-z0-9+/]*={0,2}$/.test(plain)) throw new TypeError(`${name} is not base64`);
  return { bytes: Uint8Array.from(atob(plain), (letter) => letter.charCodeAt(0)), ...(type !== undefined && { type }) };
}
