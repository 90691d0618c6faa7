import { bytesToJson, isSafe, type ColumnType } from '../column-types.js';

/** A value as PostgreSQL writes it, as JSON. */
export function postgresToJson(text: string | null, type: ColumnType, maxBlobBytes: number): unknown {
  if (text === null) return null;
  switch (type.kind) {
    case 'integer': {
      const value = BigInt(text);
      return isSafe(value) ? Number(value) : text;
    }
    case 'number': {
      const value = Number(text);
      return Number.isFinite(value) ? value : text;
    }
    case 'boolean':
      return text === 't';
    case 'json':
      return JSON.parse(text) as unknown;
    case 'bytes':
      return bytesToJson(Buffer.from(text.slice(2), 'hex'), maxBlobBytes);
    case 'timestamp':
      return text.replace(' ', 'T');
    case 'timestamptz':
      return text.replace(' ', 'T').replace(/\+00$/, 'Z');
    case 'list':
      return readArray(text).map(function convert(each): unknown {
        return Array.isArray(each) ? each.map(convert) : postgresToJson(each, type.of!, maxBlobBytes);
      });
    default:
      return text;
  }
}

type Nested = string | null | Nested[];

/** `{1,NULL,"a b"}` (PostgreSQL, "Array Input and Output Syntax"). */
function readArray(text: string): Nested[] {
  let at = text.indexOf('{');
  const list = (): Nested[] => {
    const found: Nested[] = [];
    at++;
    for (;;) {
      if (text[at] === '}') {
        at++;
        return found;
      }
      if (text[at] === ',') at++;
      else if (text[at] === '{') found.push(list());
      else if (text[at] === '"') {
        let value = '';
        for (at++; text[at] !== '"'; at++) {
          if (text[at] === '\\') at++;
          value += text[at];
        }
        at++;
        found.push(value);
      } else {
        const end = /[,}]/.exec(text.slice(at))!.index + at;
        const value = text.slice(at, end);
        at = end;
        found.push(value === 'NULL' ? null : value);
      }
    }
  };
  return list();
}

/** What was given as JSON, as the driver sends it. */
export function postgresParameter(value: unknown, type: ColumnType): unknown {
  if (value === null || value === undefined) return null;
  if (type.kind === 'json') return JSON.stringify(value);
  if (type.kind === 'bytes' && typeof value === 'string') return Buffer.from(value, 'base64');
  if (type.kind === 'list' && Array.isArray(value))
    return value.map((each: unknown) => postgresParameter(each, type.of ?? { kind: 'any' }));
  return typeof value === 'object' ? JSON.stringify(value) : String(value);
}
