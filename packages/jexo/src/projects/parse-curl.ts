import { JexoError } from '../errors.js';

/** One request that was made, as a curl line or a recording tells it. */
export interface RecordedRequest {
  readonly method: string;
  readonly url: URL;
  readonly headers: readonly (readonly [name: string, value: string])[];
  readonly body?:
    | { readonly type: string; readonly text: string }
    | { readonly type: string; readonly fields: readonly (readonly [name: string, value: string, isFile: boolean])[] };
  /** What came back, as far as it is known. */
  readonly answer?: { readonly type: string; readonly text: string };
}

/** The words of a line as a shell takes it apart: quotes, escapes and `$'…'`. */
export function shellWords(line: string): string[] {
  const words: string[] = [];
  let word: string | undefined;
  let at = 0;
  const escapes: Record<string, string> = { n: '\n', t: '\t', r: '\r', '\\': '\\', "'": "'", '"': '"' };
  while (at < line.length) {
    const sign = line[at]!;
    if (sign === '\\' && /\r?\n/.test(line.slice(at + 1, at + 3).replace(/^(\r?\n).*/s, '$1'))) at += line[at + 1] === '\r' ? 3 : 2;
    else if (sign === '^' && /^\^\r?\n/.test(line.slice(at))) at += line[at + 1] === '\r' ? 3 : 2;
    else if (/\s/.test(sign)) {
      if (word !== undefined) words.push(word);
      word = undefined;
      at++;
    } else if (sign === "'" || (sign === '$' && line[at + 1] === "'")) {
      const isAnsi = sign === '$';
      at += isAnsi ? 2 : 1;
      word ??= '';
      while (at < line.length && line[at] !== "'") {
        if (isAnsi && line[at] === '\\') {
          const code = /^\\u([0-9a-fA-F]{4})|^\\x([0-9a-fA-F]{2})/.exec(line.slice(at));
          word += code === null ? (escapes[line[at + 1]!] ?? line[at + 1] ?? '') : String.fromCharCode(parseInt(code[1] ?? code[2]!, 16));
          at += code === null ? 2 : code[0].length;
        } else word += line[at++];
      }
      at++;
    } else if (sign === '"') {
      at++;
      word ??= '';
      while (at < line.length && line[at] !== '"') {
        if (line[at] === '\\' && /["\\$`\n]/.test(line[at + 1] ?? '')) at++;
        word += line[at++];
      }
      at++;
    } else {
      if (sign === '\\') at++;
      word = (word ?? '') + (line[at] ?? '');
      at++;
    }
  }
  if (word !== undefined) words.push(word);
  return words;
}

/** Options of curl that take a value and say nothing of the request itself. */
const passedOver = new Set([
  '-o',
  '--output',
  '-m',
  '--max-time',
  '--connect-timeout',
  '--retry',
  '-w',
  '--write-out',
  '-x',
  '--proxy',
  '--cacert',
  '--cert',
  '--key',
  '-c',
  '--cookie-jar',
  '--resolve',
  '-e',
  '--referer',
  '-A',
  '--user-agent',
  '--limit-rate',
  '--retry-delay',
  '-T',
  '--upload-file',
  '--interface',
  '-D',
  '--dump-header',
]);

/**
 * Reads a curl command line.
 * @throws JexoError JEXO_USAGE when it holds no request
 */
export function parseCurl(line: string): RecordedRequest {
  const words = shellWords(line.trim());
  if (/^(?:\$|curl(?:\.exe)?)$/.test(words[0] ?? '')) words.shift();
  if (words[0] === 'curl') words.shift();
  const headers: [string, string][] = [];
  const data: string[] = [];
  const fields: [string, string, boolean][] = [];
  let method: string | undefined;
  let address: string | undefined;
  let isQuery = false;
  let isJson = false;
  const refuse = (why: string) =>
    new JexoError('JEXO_USAGE', `This curl line cannot be read: ${why}.`, { next: "Quote it as one word: --from curl 'curl https://…'" });
  for (let index = 0; index < words.length; index++) {
    let option = words[index]!;
    let given: string | undefined;
    if (!option.startsWith('-') || option === '-') {
      address ??= option;
      continue;
    }
    if (option.startsWith('--') && option.includes('='))
      [option, given] = [option.slice(0, option.indexOf('=')), option.slice(option.indexOf('=') + 1)];
    else if (/^-[XHdFubA]./.test(option)) [option, given] = [option.slice(0, 2), option.slice(2)];
    const value = () => {
      const found = given ?? words[++index];
      if (found === undefined) throw refuse(`${option} has no value`);
      return found;
    };
    switch (option) {
      case '-X':
      case '--request':
        method = value().toUpperCase();
        break;
      case '-H':
      case '--header': {
        const text = value();
        const colon = text.indexOf(':');
        if (colon > 0) headers.push([text.slice(0, colon).trim(), text.slice(colon + 1).trim()]);
        break;
      }
      case '--json':
        isJson = true;
        data.push(value());
        break;
      case '-d':
      case '--data':
      case '--data-raw':
      case '--data-ascii':
      case '--data-binary':
        data.push(value());
        break;
      case '--data-urlencode': {
        const text = value();
        const at = text.indexOf('=');
        data.push(at < 0 ? encodeURIComponent(text) : `${text.slice(0, at)}=${encodeURIComponent(text.slice(at + 1))}`);
        break;
      }
      case '-F':
      case '--form':
      case '--form-string': {
        const [name = '', ...rest] = value().split('=');
        const text = rest.join('=');
        fields.push([name, text.replace(/;.*$/, ''), /^[@<]/.test(text)]);
        break;
      }
      case '-u':
      case '--user':
        headers.push(['Authorization', `Basic ${Buffer.from(value()).toString('base64')}`]);
        break;
      case '--oauth2-bearer':
        headers.push(['Authorization', `Bearer ${value()}`]);
        break;
      case '-b':
      case '--cookie':
        headers.push(['Cookie', value()]);
        break;
      case '--url':
        address = value();
        break;
      case '-G':
      case '--get':
        isQuery = true;
        break;
      case '-I':
      case '--head':
        method = 'HEAD';
        break;
      default:
        if (passedOver.has(option)) value();
    }
  }
  if (address === undefined) throw refuse('it names no address');
  const full = /^[a-z]+:\/\//i.test(address) ? address : `http://${address}`;
  if (!URL.canParse(full)) throw refuse(`${JSON.stringify(address)} is no address`);
  const url = new URL(full);
  if (isQuery) for (const [name, text] of new URLSearchParams(data.splice(0).join('&'))) url.searchParams.append(name, text);
  const declared = headers.find(([name]) => name.toLowerCase() === 'content-type')?.[1];
  const text = data.join(isJson ? '' : '&');
  const guessed = isJson || /^\s*[[{]/.test(text) ? 'application/json' : 'application/x-www-form-urlencoded';
  return {
    method: method ?? (data.length > 0 || fields.length > 0 ? 'POST' : 'GET'),
    url,
    headers,
    ...(fields.length > 0
      ? { body: { type: 'multipart/form-data', fields } }
      : data.length > 0 && { body: { type: declared ?? guessed, text } }),
  };
}
