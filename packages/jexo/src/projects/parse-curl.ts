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

/** What has been read of a line so far. */
interface Reading {
  readonly headers: [string, string][];
  readonly data: string[];
  readonly fields: [string, string, boolean][];
  method: string | undefined;
  address: string | undefined;
  isQuery: boolean;
  isJson: boolean;
}

type TakeValue = (reading: Reading, value: string) => void;
const takeData: TakeValue = ({ data }, value) => void data.push(value);
const takeField: TakeValue = ({ fields }, value) => {
  const [name = '', ...rest] = value.split('=');
  const text = rest.join('=');
  fields.push([name, text.replace(/;.*$/, ''), /^[@<]/.test(text)]);
};
const takeHeader: TakeValue = ({ headers }, value) => {
  const colon = value.indexOf(':');
  if (colon > 0) headers.push([value.slice(0, colon).trim(), value.slice(colon + 1).trim()]);
};

/** Options that have a value, by their names without abbreviations. */
const withValue: Readonly<Record<string, TakeValue>> = {
  '--request': (reading, value) => (reading.method = value.toUpperCase()),
  '--header': takeHeader,
  '--json': (reading, value) => {
    reading.isJson = true;
    reading.data.push(value);
  },
  '--data': takeData,
  '--data-raw': takeData,
  '--data-ascii': takeData,
  '--data-binary': takeData,
  '--data-urlencode': ({ data }, value) => {
    const at = value.indexOf('=');
    data.push(at < 0 ? encodeURIComponent(value) : `${value.slice(0, at)}=${encodeURIComponent(value.slice(at + 1))}`);
  },
  '--form': takeField,
  '--form-string': takeField,
  '--user': ({ headers }, value) => void headers.push(['Authorization', `Basic ${Buffer.from(value).toString('base64')}`]),
  '--oauth2-bearer': ({ headers }, value) => void headers.push(['Authorization', `Bearer ${value}`]),
  '--cookie': ({ headers }, value) => void headers.push(['Cookie', value]),
  '--url': (reading, value) => (reading.address = value),
};
const flags: Readonly<Record<string, (reading: Reading) => void>> = {
  '--get': (reading) => (reading.isQuery = true),
  '--head': (reading) => (reading.method = 'HEAD'),
};
const longNames: Readonly<Record<string, string>> = {
  '-X': '--request',
  '-H': '--header',
  '-d': '--data',
  '-F': '--form',
  '-u': '--user',
  '-b': '--cookie',
  '-G': '--get',
  '-I': '--head',
};

const refuse = (why: string) =>
  new JexoError('JEXO_USAGE', `This curl line cannot be read: ${why}.`, { next: "Quote it as one word: --from curl 'curl https://…'" });

/**
 * Reads a curl command line.
 * @throws JexoError JEXO_USAGE when it holds no request
 */
export function parseCurl(line: string): RecordedRequest {
  const words = shellWords(line.trim());
  if (/^(?:\$|curl(?:\.exe)?)$/.test(words[0] ?? '')) words.shift();
  if (words[0] === 'curl') words.shift();
  const reading: Reading = { headers: [], data: [], fields: [], method: undefined, address: undefined, isQuery: false, isJson: false };
  while (words.length > 0) takeWord(reading, words.shift()!, words);
  return requestOf(reading);
}

function takeWord(reading: Reading, word: string, rest: string[]): void {
  if (!word.startsWith('-') || word === '-') return void (reading.address ??= word);
  let option = word;
  let given: string | undefined;
  if (word.startsWith('--') && word.includes('=')) [option, given] = [word.slice(0, word.indexOf('=')), word.slice(word.indexOf('=') + 1)];
  else if (/^-[XHdFubA]./.test(word)) [option, given] = [word.slice(0, 2), word.slice(2)];
  const name = longNames[option] ?? option;
  const value = () => {
    const found = given ?? rest.shift();
    if (found === undefined) throw refuse(`${option} has no value`);
    return found;
  };
  if (Object.hasOwn(flags, name)) flags[name]!(reading);
  else if (Object.hasOwn(withValue, name)) withValue[name]!(reading, value());
  else if (passedOver.has(option)) value();
}

function requestOf({ headers, data, fields, method, address, isQuery, isJson }: Reading): RecordedRequest {
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
