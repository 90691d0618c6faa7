/**
 * OpenAPI's "Style Values" and "Style Examples" once more, read independently: each style is written down as the RFC 6570
 * expression the standard says it is equal to, and expanded character by character.
 */
const unreserved = 'ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~';
const kept = ":/?@!$'()*,;=";
function escaped(text: string, alsoKept = ''): string {
  let out = '';
  for (const byte of new TextEncoder().encode(text)) {
    const sign = String.fromCharCode(byte);
    out +=
      byte < 128 && (unreserved.includes(sign) || alsoKept.includes(sign)) ? sign : `%${byte.toString(16).toUpperCase().padStart(2, '0')}`;
  }
  return out;
}
export type Value = string | number | boolean | string[] | Record<string, string>;
export const text = (value: unknown) => `${value as string}`;
const flat = (value: Value): string[] =>
  Array.isArray(value) ? value : typeof value === 'object' ? Object.entries(value).flat() : [text(value)];
export const isComposite = (value: Value): value is string[] | Record<string, string> => typeof value === 'object';
const keyed = (value: Value) => (typeof value === 'object' && !Array.isArray(value) ? Object.entries(value) : undefined);

export function expectedPath(name: string, style: string, explode: boolean, value: Value): string {
  const e = (part: string) => escaped(part);
  const fields = keyed(value);
  if (style === 'matrix') {
    const one = (key: string, part: string) => ';' + key + (part === '' ? '' : '=' + part); // {;x}: no "=" for an empty value
    if (!isComposite(value)) return one(e(name), e(text(value)));
    if (!explode) return one(e(name), flat(value).map(e).join(','));
    return fields
      ? fields.map(([key, part]) => one(e(key), e(part))).join('')
      : (value as string[]).map((part) => one(e(name), e(part))).join('');
  }
  const lead = style === 'label' ? '.' : '';
  const joint = style === 'label' && explode ? '.' : ',';
  if (fields && explode) return lead + fields.map(([key, part]) => `${e(key)}=${e(part)}`).join(joint);
  return lead + flat(value).map(e).join(joint);
}

export function expectedQuery(name: string, style: string, explode: boolean, reserved: boolean, value: Value): string {
  const e = (part: string) => escaped(part, reserved ? kept : '');
  const n = escaped(name);
  const fields = keyed(value);
  if (!isComposite(value)) return `${n}=${e(text(value))}`;
  if (style === 'deepObject' && fields) return fields.map(([key, part]) => `${n}[${escaped(key)}]=${e(part)}`).join('&');
  if (fields && explode) return fields.map(([key, part]) => `${e(key)}=${e(part)}`).join('&');
  if (!fields && (explode || style === 'deepObject')) return (value as string[]).map((part) => `${n}=${e(part)}`).join('&');
  const joint = { form: ',', spaceDelimited: '%20', pipeDelimited: '%7C' }[style]!;
  const parts = flat(value);
  return parts.length === 0 ? '' : `${n}=${parts.map(e).join(joint)}`;
}
