import { snakeCase } from '../functions/snake-case.js';
import type { Operation } from './operation.js';

/** The longest name hosts take. */
const longest = 64;
const noise = /^(?:api|apis|rest|v\d+(?:[._-]\d+)*|public|json)$/i;

/**
 * A name for each operation, made of the operation alone, so that it stays when others come: of its operationId when that is one a person
 * would write, or of method and path: `list_hives`, `get_hive`, `withdraw_inspection`. Where two come out alike, the shorter path keeps it.
 */
export function nameOperations(operations: readonly Operation[]): Map<Operation, string> {
  const groups = new Map<string, Operation[]>();
  for (const operation of operations) {
    const name = fitting(ownName(operation));
    groups.set(name, [...(groups.get(name) ?? []), operation]);
  }
  const names = new Map<Operation, string>();
  const taken = new Set(groups.keys());
  for (const [name, group] of groups) {
    const [first, ...others] = [...group].sort(
      (a, b) => a.path.length - b.path.length || a.path.localeCompare(b.path) || a.method.localeCompare(b.method),
    );
    names.set(first!, name);
    for (const operation of others) {
      const candidates = [
        pathName(operation),
        `${pathName(operation)}_${qualifiers(operation)}`,
        `${operation.method.toLowerCase()}_${words(operation.path).join('_')}`,
      ];
      const free =
        candidates.map(fitting).find((each) => !taken.has(each)) ?? fitting(`${name}_${sum(`${operation.method} ${operation.path}`)}`);
      taken.add(free);
      names.set(operation, free);
    }
  }
  return names;
}

function ownName(operation: Operation): string {
  const { id } = operation;
  if (id === undefined) return pathName(operation);
  const name = snakeCase(id.replaceAll(/[^A-Za-z0-9]+/g, '_'));
  return isMangled(name, operation) ? pathName(operation) : name.replaceAll(/^_+|_+$/g, '') || pathName(operation);
}

/** Frameworks that make ids of method and path give names nobody would write: `get_hive_api_v1_hives__hive_id__get`. */
function isMangled(name: string, { method, path }: Operation): boolean {
  const spoken = words(path).map((word) => snakeCase(word));
  const held = spoken.filter((word) => name.includes(word)).length;
  const ends = name.endsWith(`_${method.toLowerCase()}`) || name.startsWith(`${method.toLowerCase()}_`);
  return (
    (spoken.length > 1 && held === spoken.length && ends && /\{/.test(path)) ||
    /^[a-z]*_?[0-9a-f]{12,}$/.test(name) ||
    !/[a-z]{2}/.test(name)
  );
}

const verbs: Readonly<Record<string, string>> = { GET: 'get', POST: 'create', PUT: 'replace', PATCH: 'update', DELETE: 'delete' };

/** From method and path, as a person would name it. */
function pathName({ method, path, answer }: Operation): string {
  const segments = path.split('/').filter((segment) => segment !== '' && !noise.test(segment));
  const fixed = segments.filter((segment) => !isVariable(segment));
  if (fixed.length === 0) return `${verbs[method] ?? method.toLowerCase()}_${segments.length > 0 ? 'item' : 'root'}`;
  const last = segments.at(-1)!;
  const nouns = fixed.map((segment) => snakeCase(segment.replace(/\.(?:json|xml|ya?ml)$/i, '').replaceAll(/[^A-Za-z0-9]+/g, '_')));
  const things = nouns.slice(0, -1).map(singular);
  const end = nouns.at(-1)!;
  if (isVariable(last)) return [verbs[method] ?? method.toLowerCase(), ...things.slice(-1), singular(end)].join('_');
  const before = segments.at(-2);
  // A single word behind an item says what is done to it: /inspections/{id}/withdraw.
  if (before !== undefined && isVariable(before) && (method === 'POST' || method === 'PUT') && singular(end) === end && !/s$/.test(end))
    return [end, ...things.slice(-1)].join('_');
  const isList = method === 'GET' && (singular(end) !== end || (answer?.schema as { type?: unknown } | undefined)?.type === 'array');
  const verb = isList ? 'list' : (verbs[method] ?? method.toLowerCase());
  return [verb, ...things.slice(-1), isList || method === 'DELETE' ? end : singular(end)].join('_');
}

const isVariable = (segment: string) => segment.includes('{');

function words(path: string): string[] {
  return path.split(/[^A-Za-z0-9]+/).filter((word) => word !== '' && !noise.test(word));
}

function qualifiers({ path }: Operation): string {
  const variables = [...path.matchAll(/\{([^}]+)\}/g)].map(([, name]) => snakeCase(name!));
  return variables.length > 0
    ? `by_${variables.join('_and_')}`
    : words(path)
        .slice(0, -1)
        .map((word) => snakeCase(word))
        .join('_') || 'other';
}

function singular(word: string): string {
  const at = word.lastIndexOf('_') + 1;
  const last = word.slice(at);
  const one =
    last.endsWith('ies') && last.length > 4
      ? `${last.slice(0, -3)}y`
      : /(?:ss|us|is|news|series|status|address)$/.test(last)
        ? last
        : /(?:x|ch|sh|ss|z)es$/.test(last)
          ? last.slice(0, -2)
          : last.endsWith('s') && last.length > 2
            ? last.slice(0, -1)
            : last;
  return word.slice(0, at) + one;
}

/** At most 64 characters, cut between words; what was cut is told apart by a sum. */
function fitting(name: string): string {
  const clean = name
    .replaceAll(/[^a-z0-9_]+/gi, '_')
    .replaceAll(/_{2,}/g, '_')
    .replaceAll(/^_|_$/g, '');
  const named = /^[a-z]/i.test(clean) ? clean : `op_${clean}`;
  if (named.length <= longest) return named;
  const head = named.slice(0, longest - 5);
  const at = head.lastIndexOf('_');
  return `${at > longest / 2 ? head.slice(0, at) : head}_${sum(named)}`;
}

/** Four characters that tell texts apart (FNV-1a). */
function sum(text: string): string {
  let hash = 0x811c9dc5;
  for (let index = 0; index < text.length; index++) hash = Math.imul(hash ^ text.charCodeAt(index), 0x01000193);
  return (hash >>> 0).toString(36).slice(-4).padStart(4, '0');
}

/** A name for a scheme or a server: small letters, digits and dashes. */
export function slugOf(text: string): string {
  const slug = text
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '-')
    .replaceAll(/^-+|-+$/g, '')
    .slice(0, 40);
  return /^[a-z]/.test(slug) ? slug : `api-${slug}`.replace(/-$/, '');
}
