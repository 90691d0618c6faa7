import { answer, settledAnswer } from '../../offers/answer.js';
import { isRecord } from '../../protocol/is-record.js';
import { describeIssues, type CompiledSchema } from '../../offers/schema.js';
import type { ContentBlock } from '../../protocol/types.js';
import { cutText } from './cut-text.js';
import { cutValue, type Cut } from './cut-value.js';
import type { Received } from './http-call.js';
import { retryAfter } from './retry.js';
import type { Upstream } from './upstream.js';

export interface AnswerContext {
  readonly upstream: Pick<Upstream, 'title' | 'clean' | 'keep' | 'most' | 'variables'>;
  /** What was asked for: `GET`, `/hives/{hive}`. */
  readonly method: string;
  readonly path: string;
  /** The media type that was promised. */
  readonly mediaType: string | undefined;
  /** What was promised; undefined when nothing was, or the caller chose fields. */
  readonly output: CompiledSchema | undefined;
  /** True when the promised value stands alone under `result`. */
  readonly wrapped: boolean;
}

type Result = ReturnType<typeof answer>;
const textBlock = (text: string): ContentBlock => ({ type: 'text', text });
const failure = (text: string): Result => answer({ content: [textBlock(text)], isError: true });

const decoder = new TextDecoder();

/** Secrets are looked for in the values themselves: in the text they may be written with escapes. */
function cleaned(value: unknown, clean: Upstream['clean'], depth = 0): unknown {
  if (typeof value === 'string') return clean(value);
  if (typeof value !== 'object' || value === null || depth > 500) return value;
  if (Array.isArray(value)) return value.map((item) => cleaned(item, clean, depth + 1));
  return Object.fromEntries(Object.entries(value).map(([key, item]) => [clean(key), cleaned(item, clean, depth + 1)]));
}

/** A received JSON value; undefined when it is none. @throws SyntaxError when it says that it is, and is not */
export function jsonOf({ headers, bytes }: Received, clean: Upstream['clean']): { readonly value: unknown } | undefined {
  if (!/\bjson\b/i.test(headers.get('content-type') ?? '') || bytes.length === 0) return undefined;
  return { value: cleaned(JSON.parse(decoder.decode(bytes)), clean) };
}

/** What a tool answers with, from what the API did. */
export async function readAnswer(received: Received, context: AnswerContext): Promise<Result> {
  const { upstream, mediaType } = context;
  const { title, clean } = upstream;
  const type = (received.headers.get('content-type') ?? '').toLowerCase();
  if (received.status >= 400 || received.status < 200) return refused(received, context);
  let json: { readonly value: unknown } | undefined;
  try {
    json = jsonOf(received, clean);
  } catch {
    return failure(
      `${title} answered ${place(received, context)} with something that says it is JSON and is not: ${cutText(decoder.decode(received.bytes.slice(0, 400)), 200)}`,
    );
  }
  if (json !== undefined) return structured(json.value, context);
  if (received.bytes.length === 0) {
    if (context.method === 'HEAD' || context.method === 'OPTIONS') return headersOf(received, context);
    const location = received.headers.get('location');
    const words = `Done: ${received.status} ${received.statusText || 'without content'}.${location === null ? '' : ` It is at ${clean(location)}.`}`;
    return context.output === undefined
      ? answer({ content: [textBlock(words)] })
      : answer({ content: [textBlock(words)], structuredContent: context.wrapped ? { result: null } : {} });
  }
  const promisedJson = /json/i.test(mediaType ?? '');
  if (promisedJson && /html/.test(type))
    return failure(
      `${title} answered ${place(received, context)} with a web page where JSON was promised${pageTitle(received.bytes)}. That is mostly a page to sign in, or one of a proxy; check the base URL and the token.`,
    );
  if (context.output !== undefined)
    return failure(
      `${title} answered ${place(received, context)} with ${type || 'something of no type'} where ${mediaType ?? 'JSON'} was promised: ${cutText(clean(decoder.decode(received.bytes.slice(0, 2000))), 300)}`,
    );
  return media(received, type, context);
}

/** Where a structure says what was cut. */
export const cutMark = '_cut';
const joined = (path: string) => (path === '' ? 'result' : path.startsWith('[') ? `result${path}` : `result.${path}`);

/** A JSON value as the tool's answer, cut when it is too long for a model. It is serialised once when it is short enough. */
export async function structured(value: unknown, context: AnswerContext): Promise<Result> {
  const { output, wrapped, upstream } = context;
  const whole = JSON.stringify(value);
  const isWhole = whole.length <= upstream.most;
  const { value: short, cuts } = isWhole ? { value, cuts: [] } : cutValue(value, upstream.most);
  const text = isWhole ? whole : JSON.stringify(short);
  const notes = cuts.length === 0 ? [] : [textBlock(cutNote(cuts, whole, upstream))];
  if (output === undefined) return answer({ content: [textBlock(typeof short === 'string' ? short : text), ...notes] });
  const bare = wrapped ? { result: short } : short;
  // Whoever reads only the structure must see that it is not the whole.
  const promised =
    cuts.length === 0 || !isRecord(bare)
      ? bare
      : { ...bare, [cutMark]: cuts.map((cut) => ({ ...cut, path: wrapped ? joined(cut.path) : cut.path })) };
  const checked = await output.check(promised);
  if (!checked.ok)
    return answer({
      content: [
        textBlock(
          `${upstream.title} answered ${context.method} ${context.path} with something its document does not promise:\n${describeIssues(checked.issues)}\nIts answer: ${text}`,
        ),
        ...notes,
      ],
      isError: true,
    });
  const json = cuts.length > 0 ? JSON.stringify(promised) : wrapped ? `{"result":${text}}` : text;
  return settledAnswer({ text, more: notes, structured: promised as Record<string, unknown>, json, output });
}

function cutNote(cuts: readonly Cut[], whole: string, { keep }: Pick<Upstream, 'keep'>): string {
  const parts = cuts.map(({ path, kept, of, what }) => `${kept} of ${of} ${what}${path === '' ? '' : ` of ${path}`}`);
  return `This answer was cut: ${parts.join(', ')}. The full answer, ${whole.length} characters, is at ${keep(whole)}; asking for less is usually better.`;
}

/** What HEAD and OPTIONS are asked for: the headers. */
function headersOf({ status, statusText, headers }: Received, { upstream }: AnswerContext): Result {
  const lines = [...headers].filter(([name]) => name !== 'set-cookie').map(([name, value]) => `${name}: ${value}`);
  return answer({ content: [textBlock(upstream.clean([[status, statusText].filter(Boolean).join(' '), ...lines].join('\n')))] });
}

function media({ bytes, status }: Received, type: string, { upstream, method, path }: AnswerContext): Result {
  const { most, keep, clean } = upstream;
  const mimeType = type.split(';')[0]!.trim() || 'application/octet-stream';
  if (/^(?:text\/|application\/(?:.*\+)?(?:xml|yaml|x-ndjson|javascript))/.test(mimeType)) {
    const text = clean(decoder.decode(bytes));
    if (text.length <= most) return answer({ content: [textBlock(text)] });
    return answer({
      content: [
        textBlock(text.slice(0, most)),
        textBlock(`This answer was cut: ${most} of ${text.length} characters. The full answer is at ${keep(text)}.`),
      ],
    });
  }
  const data = toBase64(bytes);
  if (mimeType.startsWith('image/')) return answer({ content: [{ type: 'image', data, mimeType }] });
  if (mimeType.startsWith('audio/')) return answer({ content: [{ type: 'audio', data, mimeType }] });
  return answer({
    content: [
      textBlock(`${bytes.length} bytes of ${mimeType} (${status}).`),
      {
        type: 'resource',
        resource: { uri: `urn:jexo:${method.toLowerCase()}:${encodeURIComponent(path)}`, mimeType, blob: data },
      },
    ],
  });
}

function toBase64(bytes: Uint8Array): string {
  return Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).toString('base64');
}

const place = ({ status, statusText }: Received, { method, path }: AnswerContext) =>
  `${method} ${path} (${[status, statusText].filter(Boolean).join(' ')})`;

/** What a refusal means, and what to do about it. */
const remedies: Readonly<Record<number, string>> = {
  400: 'Fix what it names, and call again.',
  401: 'This server’s own access to the API is missing or has expired; its operator must renew it.',
  403: 'This server’s access does not allow it. Calling again will not help.',
  404: 'Check the names and ids: there is nothing of that name.',
  405: 'The API does not allow this here. Calling again will not help.',
  409: 'It conflicts with how things are. Read the current state first.',
  410: 'It is gone for good.',
  412: 'It has changed meanwhile. Read it again first.',
  413: 'It is too large. Send less at once.',
  415: 'The API does not take this kind of content.',
  422: 'Fix the fields it names, and call again.',
};

function refused(received: Received, context: AnswerContext): Result {
  const { title, clean, variables } = context.upstream;
  const { status, headers, bytes } = received;
  const type = headers.get('content-type') ?? '';
  let said: string;
  try {
    const json = jsonOf(received, clean);
    said =
      json === undefined
        ? /html/i.test(type)
          ? pageTitle(bytes).replace(/^ \(/, '').replace(/\)$/, '')
          : cutText(clean(decoder.decode(bytes.slice(0, 2000))), 300)
        : problemWords(json.value);
  } catch {
    said = cutText(clean(decoder.decode(bytes.slice(0, 2000))), 300);
  }
  const wait = retryAfter(headers);
  const remedy =
    status === 429 || (status === 503 && wait !== undefined)
      ? `The API wants fewer calls. Try again ${wait === undefined ? 'later' : `in ${Math.max(1, Math.ceil(wait / 1000))} seconds`}.`
      : status >= 500
        ? 'The fault is the API’s. Try again later.'
        : (remedies[status] ?? 'Fix what it names, and call again.');
  const where = (status === 401 || status === 403) && variables.length > 0 ? ` Its secret is read from ${variables.join(' and ')}.` : '';
  return failure(`${title} refused ${place(received, context)}${said === '' ? '.' : `: ${said}`}\n${remedy}${where}`);
}

/** The words of a problem (RFC 9457), or of what other APIs send in its place. */
function problemWords(value: unknown): string {
  if (!isRecord(value)) return typeof value === 'string' ? cutText(value, 500) : '';
  const inner = isRecord(value.error) ? value.error : value;
  const texts = ['title', 'detail', 'message', 'error_description', 'error'].flatMap((key) =>
    typeof inner[key] === 'string' ? [inner[key]] : [],
  );
  const {
    type: _type,
    title: _title,
    status: _status,
    detail: _detail,
    instance: _instance,
    message: _message,
    error: _error,
    error_description: _description,
    ...others
  } = inner;
  const more = Object.keys(others).length > 0 ? cutText(JSON.stringify(others), 600) : '';
  return [...new Set(texts)].join(': ') + (more === '' ? '' : ` ${more}`);
}

function pageTitle(bytes: Uint8Array): string {
  const title = /<title[^>]*>([^<]{1,200})/i.exec(decoder.decode(bytes.slice(0, 20_000)))?.[1]?.trim();
  return title === undefined || title === '' ? '' : ` (“${title}”)`;
}
