import { parseTree, findNodeAtLocation, printParseErrorCode, type Node, type ParseError } from 'jsonc-parser';
import { patch as patchToml } from '@decimalturn/toml-patch';
import { parse as parseToml, stringify as stringifyToml } from 'smol-toml';
import { isMap, isScalar, LineCounter, parseDocument, stringify, type Pair, type YAMLMap } from 'yaml';
import { JexoError, messageOf } from '../errors.js';
import { findServers } from './host-entry.js';

/** A configuration as text that can be read, and changed in one place with every other byte kept. */
export interface HostText {
  readonly value: unknown;
  /** Where its map of servers is. */
  readonly path: readonly string[] | undefined;
  /** The text with a server put in, or in place of the one of that name. */
  set(name: string, entry: object, path: readonly string[]): string;
  /** The text without a server. */
  remove(name: string, path: readonly string[]): string;
  /** The text with the whole of another value, changed where that differs; where the format has a means for it. */
  patch?(value: object): string;
}

/**
 * Reads a host application's configuration: JSON, JSON with comments and trailing commas, YAML or TOML, by its name.
 * @throws JexoError JEXO_HOST_FILE, with the line that cannot be read
 */
export function readHostText(text: string, file: string): HostText {
  if (/\.toml$/i.test(file)) return tomlText(text, file);
  return /\.ya?ml$/i.test(file) ? yamlText(text, file) : jsonText(text, file);
}

function broken(file: string, line: number, why: string): JexoError {
  return new JexoError('JEXO_HOST_FILE', `${file}:${line}: ${why}`, {
    where: `${file}:${line}`,
    next: 'Fix this line; nothing was changed.',
  });
}

const eolOf = (text: string) => (text.includes('\r\n') ? '\r\n' : '\n');
const lineAt = (text: string, offset: number) => text.slice(0, offset).split('\n').length;
const indentAt = (text: string, offset: number) => /^[ \t]*/.exec(text.slice(text.lastIndexOf('\n', offset - 1) + 1, offset))![0];

// eslint-disable-next-line max-lines-per-function -- the edits share one parsed text
function jsonText(whole: string, file: string): HostText {
  const bom = whole.startsWith('\uFEFF') ? '\uFEFF' : '';
  const text = whole.slice(bom.length);
  const isEmpty = text.trim() === '';
  const errors: ParseError[] = [];
  const root = isEmpty ? undefined : parseTree(text, errors, { allowTrailingComma: true, disallowComments: false });
  const [first] = errors;
  if (first !== undefined || (!isEmpty && root === undefined))
    throw broken(
      file,
      lineAt(text, first?.offset ?? 0),
      first === undefined ? 'it holds no JSON' : `this is not JSON: ${printParseErrorCode(first.error)}`,
    );
  if (root !== undefined && root.type !== 'object') throw broken(file, 1, 'a configuration is an object');
  const value: unknown = root === undefined ? {} : valueOf(root);
  const eol = eolOf(text);
  const unit = /^([ \t]+)\S/m.exec(text)?.[1] ?? '  ';
  const step = unit.startsWith('\t') ? '\t' : unit.length > 8 ? '  ' : unit;

  const render = (entry: unknown, indent: string) =>
    JSON.stringify(entry, null, step)
      .split('\n')
      .join(eol + indent);
  /** Puts a property at the end of an object, in the way its others are written. */
  const insert = (object: Node, key: string, entry: unknown): string => {
    const last = object.children?.at(-1);
    const open = indentAt(text, object.offset);
    if (last === undefined) {
      const inner = open + step;
      const at = object.offset + 1;
      return `${text.slice(0, at)}${eol}${inner}${JSON.stringify(key)}: ${render(entry, inner)}${eol}${open}${text.slice(at)}`;
    }
    const end = last.offset + last.length;
    const own = /^\s*$/.test(text.slice(text.lastIndexOf('\n', last.offset - 1) + 1, last.offset));
    const inner = own ? indentAt(text, last.offset) : open + step;
    const added = `${eol}${inner}${JSON.stringify(key)}: ${render(entry, inner)}`;
    const comma = commaAfter(text, end);
    if (comma !== undefined) return `${text.slice(0, comma)}${added},${text.slice(comma)}`;
    return `${text.slice(0, end)},${added}${text.slice(end)}`;
  };
  return {
    value,
    path: findServers(value),
    set(name, entry, path) {
      if (root === undefined)
        return `${bom}${JSON.stringify(
          path.reduceRight<unknown>((inner, key) => ({ [key]: inner }), { [name]: entry }),
          null,
          2,
        )
          .split('\n')
          .join(eol)}${eol}`;
      const there = findNodeAtLocation(root, [...path, name]);
      if (there !== undefined) {
        const indent = indentAt(text, there.parent!.offset);
        return bom + text.slice(0, there.offset) + render(entry, indent) + text.slice(there.offset + there.length);
      }
      for (let depth = path.length; depth >= 0; depth--) {
        const place = findNodeAtLocation(root, path.slice(0, depth));
        if (place?.type !== 'object') continue;
        const missing = path.slice(depth);
        const [key, inner] =
          missing.length === 0
            ? [name, entry]
            : [missing[0]!, missing.slice(1).reduceRight<unknown>((each, outer) => ({ [outer]: each }), { [name]: entry })];
        return bom + insert(place, key, inner);
      }
      throw broken(file, 1, `${path.join('.')} is no object`);
    },
    remove(name, path) {
      const node = findNodeAtLocation(root!, [...path, name]);
      const property = node?.parent;
      const siblings = property?.parent?.children ?? [];
      if (property === undefined) return whole;
      const index = siblings.indexOf(property);
      const end = property.offset + property.length;
      const comma = commaAfter(text, end);
      const before = siblings[index - 1];
      if (before !== undefined) {
        const from = before.offset + before.length;
        const own = commaAfter(text, from)!;
        // Without a comma behind it, the comma before it goes.
        if (comma === undefined) return bom + text.slice(0, own - 1) + text.slice(end);
        return bom + text.slice(0, cutFrom(text, property.offset, own)) + text.slice(comma);
      }
      const object = property.parent!;
      const from = object.offset + 1;
      const lead = cutFrom(text, property.offset, from);
      const rest = text.slice(comma ?? end);
      return (
        bom + text.slice(0, lead) + (siblings.length === 1 ? rest.replace(new RegExp(`^${eol}${indentAt(text, object.offset)}`), '') : rest)
      );
    },
  };
}

/** From where a property is taken out: with the blanks before it, unless a comment stands among them. */
function cutFrom(text: string, offset: number, least: number): number {
  return text.slice(least, offset).trim() === '' ? least : offset;
}

/** Behind a value: the place after its comma, comments passed over; undefined when there is none. */
function commaAfter(text: string, from: number): number | undefined {
  const found = /^(?:\s|\/\/[^\n]*\n|\/\*(?:(?!\*\/)[\s\S])*\*\/)*,/.exec(text.slice(from));
  return found === null ? undefined : from + found[0].length;
}

function valueOf(node: Node): unknown {
  if (node.type === 'array') return (node.children ?? []).map(valueOf);
  if (node.type !== 'object') return node.value as unknown;
  return Object.fromEntries(
    (node.children ?? []).map((property) => [String(property.children![0]!.value), valueOf(property.children![1]!)]),
  );
}

function yamlText(text: string, file: string): HostText {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false });
  const [first] = document.errors;
  if (first !== undefined) throw broken(file, lines.linePos(first.pos[0]).line, first.message);
  const value: unknown = document.toJS() ?? {};
  const eol = eolOf(text);
  const block = (entry: object, indent: string) =>
    stringify(entry, { lineWidth: 0 })
      .trimEnd()
      .split('\n')
      .map((line) => indent + line)
      .join(eol);
  const pairOf = (map: unknown, key: string): Pair | undefined =>
    isMap(map) ? map.items.find((pair) => isScalar(pair.key) && String(pair.key.value) === key) : undefined;
  const span = (pair: Pair): [number, number] => {
    const start = (pair.key as { range: [number, number, number] }).range[0];
    const range = (pair.value as { range?: [number, number, number] } | null)?.range;
    const end = range?.[1] ?? (pair.key as { range: [number, number, number] }).range[1];
    const from = text.lastIndexOf('\n', start - 1) + 1;
    const newline = text.indexOf('\n', Math.max(from, end - 1));
    return [from, newline < 0 ? text.length : newline + 1];
  };
  const mapAt = (path: readonly string[]) => (path.length === 0 ? document.contents : document.getIn(path, true)) as YAMLMap | undefined;
  return {
    value,
    path: findServers(value),
    set(name, entry, path) {
      const there = pairOf(mapAt(path), name);
      if (there !== undefined) {
        const [from, to] = span(there);
        return (
          text.slice(0, from) + block({ [name]: entry }, indentAt(text, (there.key as { range: [number] }).range[0])) + eol + text.slice(to)
        );
      }
      for (let depth = path.length; depth >= 0; depth--) {
        const map = mapAt(path.slice(0, depth));
        if (!isMap(map) || map.items.length === 0 || map.flow) continue;
        // A map that is empty, or written on one line, is rewritten with what it held.
        const holder = depth < path.length ? pairOf(map, path[depth]!) : undefined;
        const held = (holder?.value as { toJSON?(): unknown } | null | undefined)?.toJSON?.() ?? {};
        const made = path
          .slice(depth)
          .reduceRight<object>((inner, key, at) => ({ [key]: at === 0 ? { ...held, ...inner } : inner }), { [name]: entry });
        const indent = indentAt(text, (map.items[0]!.key as { range: [number] }).range[0]);
        const [from, to] = holder === undefined ? [span(map.items.at(-1)!)[1], span(map.items.at(-1)!)[1]] : span(holder);
        const lead = from > 0 && text[from - 1] !== '\n' ? eol : '';
        return text.slice(0, from) + lead + block(made, indent) + eol + text.slice(to);
      }
      const lead = text === '' || text.endsWith('\n') ? '' : eol;
      return (
        text +
        lead +
        block(
          path.reduceRight<object>((inner, key) => ({ [key]: inner }), { [name]: entry }),
          '',
        ) +
        eol
      );
    },
    remove(name, path) {
      const map = mapAt(path);
      const pair = pairOf(map, name);
      if (pair === undefined) return text;
      const [from, to] = span(pair);
      return text.slice(0, from) + text.slice(to);
    },
  };
}

function tomlText(text: string, file: string): HostText {
  let value: unknown;
  try {
    value = parseToml(text.replace(/^\uFEFF/, ''));
  } catch (error) {
    throw broken(file, (error as { line?: number }).line ?? 1, messageOf(error).split('\n')[0]!);
  }
  const eol = eolOf(text);
  const keyOf = (part: string) => (/^[A-Za-z0-9_-]+$/.test(part) ? part : JSON.stringify(part));
  const headOf = (path: readonly string[], name: string) => [...path, name].map(keyOf).join('.');
  const same = (header: string, wanted: string) => header.replaceAll(/\s/g, '').replaceAll(/['"]/g, '') === wanted.replaceAll('"', '');
  /** The tables of one server: its own, and those within it. */
  const spanOf = (path: readonly string[], name: string): [number, number] | undefined => {
    const wanted = headOf(path, name);
    const heads = [...text.matchAll(/^[ \t]*\[\[?([^\]\n]+)\]\]?[^\n]*$/gm)];
    const isOurs = (header: string) =>
      same(header, wanted) ||
      same(
        header
          .split('.')
          .slice(0, path.length + 1)
          .join('.'),
        wanted,
      );
    const start = heads.findIndex(([, header]) => isOurs(header!));
    if (start < 0) return undefined;
    const end = heads.findIndex(([, header], index) => index > start && !isOurs(header!));
    return [heads[start]!.index, end < 0 ? text.length : heads[end]!.index];
  };
  const table = (name: string, entry: object, path: readonly string[]) =>
    stringifyToml(path.reduceRight<object>((inner, key) => ({ [key]: inner }), { [name]: entry }))
      .split('\n')
      // Empty tables above ours say nothing.
      .filter(
        (line, index, all) => !(/^\[/.test(line) && /^\[|^$/.test(all[index + 1] ?? '') && !line.startsWith(`[${headOf(path, name)}`)),
      )
      .join('\n')
      .trim()
      .split('\n')
      .join(eol);
  return {
    value,
    path: findServers(value),
    set(name, entry, path) {
      const there = spanOf(path, name);
      if (there !== undefined) {
        const tail = text.slice(there[1]);
        return text.slice(0, there[0]) + table(name, entry, path) + eol + (tail === '' ? '' : eol + tail);
      }
      const lead = text.trim() === '' ? '' : text.endsWith('\n') ? eol : eol + eol;
      return text + lead + table(name, entry, path) + eol;
    },
    remove(name, path) {
      const there = spanOf(path, name);
      if (there === undefined) return text;
      const before = text.slice(0, there[0]);
      const tail = text.slice(there[1]);
      return tail === '' ? before.replace(/(\r?\n)\r?\n$/, '$1') : before + tail;
    },
    patch: (wanted) => patchToml(text, wanted),
  };
}
