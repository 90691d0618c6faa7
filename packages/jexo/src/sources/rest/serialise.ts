import { isRecord } from '../../protocol/is-record.js';
import type { Parameter } from './operation.js';

type How = Pick<Parameter, 'name' | 'style' | 'explode'> & Partial<Pick<Parameter, 'allowReserved' | 'content'>>;
type Encode = (text: string) => string;

/** Everything but letters, digits and `-._~` is written as %XX (RFC 3986). */
export function percent(text: string): string {
  return encodeURIComponent(wellFormed(text)).replaceAll(/[!'()*]/g, (sign) => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`);
}

/** Half of a surrogate pair cannot be written in UTF-8. */
function wellFormed(text: string): string {
  return text.replaceAll(/[\uD800-\uDBFF](?![\uDC00-\uDFFF])|(?<![\uD800-\uDBFF])[\uDC00-\uDFFF]/g, '\uFFFD');
}

/** Reserved signs stay, but for those that end a query, part it, or mean a space in it (OpenAPI 3.1.1, "Parameter Object"). */
function keepReserved(text: string): string {
  return percent(text).replaceAll(/%(?:3A|2F|3F|40|21|24|27|28|29|2A|2C|3B|3D)/g, (code) => decodeURIComponent(code));
}

const asIs: Encode = (text) => text;

function scalar(value: unknown): string {
  return typeof value === 'string' ? value : value === null ? 'null' : typeof value === 'object' ? JSON.stringify(value) : String(value);
}

const fields = (value: Record<string, unknown>) => Object.entries(value).filter(([, item]) => item !== undefined);

/** A value for a path, without the slashes around it (OpenAPI, "Style Values"). */
export function toPath(value: unknown, { name, style, explode, content }: How): string {
  if (content !== undefined) return percent(JSON.stringify(value));
  const [before, between] = style === 'label' ? ['.', explode ? '.' : ','] : ['', ','];
  if (style === 'matrix') return toMatrix(value, name, explode);
  if (Array.isArray(value)) return before + value.map((item) => percent(scalar(item))).join(between);
  if (isRecord(value)) return before + pairs(value, explode, percent).join(between);
  return before + percent(scalar(value));
}

function toMatrix(value: unknown, name: string, explode: boolean): string {
  const part = (key: string, text: string) => (text === '' ? `;${key}` : `;${key}=${text}`);
  const own = percent(name);
  if (Array.isArray(value)) {
    const items = value.map((item) => percent(scalar(item)));
    return explode ? items.map((item) => part(own, item)).join('') : part(own, items.join(','));
  }
  if (isRecord(value))
    return explode
      ? fields(value)
          .map(([key, item]) => part(percent(key), percent(scalar(item))))
          .join('')
      : part(own, pairs(value, false, percent).join(','));
  return part(own, percent(scalar(value)));
}

/** `key=value` of each field, or key and value one after the other. */
function pairs(value: Record<string, unknown>, explode: boolean, encode: Encode): string[] {
  return fields(value).flatMap(([key, item]) =>
    explode ? [`${encode(key)}=${encode(scalar(item))}`] : [encode(key), encode(scalar(item))],
  );
}

/** The parts of a query, each `name=value`; none for an empty list or object. */
export function toQuery(value: unknown, { name, style, explode, allowReserved = false, content }: How): string[] {
  const encode = allowReserved ? keepReserved : percent;
  const own = percent(name);
  if (content !== undefined) return [`${own}=${encode(JSON.stringify(value))}`];
  if (style === 'deepObject' && typeof value === 'object' && value !== null) return deep(own, value, encode);
  if (Array.isArray(value)) {
    const items = value.map((item) => encode(scalar(item)));
    if (explode) return items.map((item) => `${own}=${item}`);
    const between = style === 'spaceDelimited' ? '%20' : style === 'pipeDelimited' ? '%7C' : ',';
    return items.length === 0 ? [] : [`${own}=${items.join(between)}`];
  }
  if (isRecord(value)) {
    const parts = pairs(value, explode, encode);
    const between = style === 'spaceDelimited' ? '%20' : style === 'pipeDelimited' ? '%7C' : ',';
    return explode ? parts : parts.length === 0 ? [] : [`${own}=${parts.join(between)}`];
  }
  return [`${own}=${encode(scalar(value))}`];
}

/** `filter[kind]=x`; deeper ones by more brackets, lists by repeating. The standard leaves those open. */
function deep(name: string, value: object, encode: Encode): string[] {
  if (Array.isArray(value)) return value.map((item) => `${name}=${encode(scalar(item))}`);
  return fields(value as Record<string, unknown>).flatMap(([key, item]) => {
    const inner = `${name}[${percent(key)}]`;
    return typeof item === 'object' && item !== null ? deep(inner, item, encode) : [`${inner}=${encode(scalar(item))}`];
  });
}

/** A header's value; line ends and other control characters cannot be sent. */
export function toHeader(value: unknown, { explode, content }: How): string {
  const text =
    content !== undefined
      ? JSON.stringify(value)
      : Array.isArray(value)
        ? value.map(scalar).join(',')
        : isRecord(value)
          ? pairs(value, explode, asIs).join(',')
          : scalar(value);
  if (/[\u0000-\u0008\u000A-\u001F\u007F]/.test(text)) throw new TypeError('a header cannot hold line ends or control characters');
  return text;
}

/** Parts of a Cookie header. */
export function toCookie(value: unknown, how: How): string[] {
  return toQuery(value, { ...how, style: 'form' });
}
