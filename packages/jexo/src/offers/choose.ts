import { JexoError } from '../errors.js';
import { nearest } from './nearest.js';
import { freezeParts, thawParts, type FrozenParts } from './freeze.js';
import type { Offer } from './offer.js';
import { closeParts, gaugesOf, isSource, readParts, type Source, type SourceContents } from './source.js';
import { counted } from '../protocol/counted.js';

/** Which offers are kept, and what they are called. */
export interface Choice {
  /**
   * Only what one of these names: a name, a pattern as `list_*`, or `tag:scales`. Names are those the source gives; a
   * function goes by its own name too.
   */
  readonly only?: readonly string[];
  /** All but what these name. */
  readonly except?: readonly string[];
  /** New names by the old ones. */
  readonly rename?: Readonly<Record<string, string>>;
  /** Descriptions that take the place of the source's own, by name. */
  readonly describe?: Readonly<Record<string, string>>;
  /** Tags that all kept offers get, beside their own. */
  readonly tags?: readonly string[];
  /** Put before the name of every tool and prompt, after renaming. */
  readonly prefix?: string;
}

/**
 * Puts offers and sources together as one source, with a choice among them.
 *
 * @throws JexoError JEXO_CHOICE when it is read and a choice names nothing
 * @example
 * defineServer({ name: 'alderwick-apiary', version: '1.0.0', offers: [offers([wrapFunctions(hives, { types })], { only: ['mix_*'], prefix: 'hive_' })] });
 */
export function offers(parts: readonly (Offer | Source)[], choice: Choice & { readonly name?: string } = {}): Source {
  const sources = parts.filter(isSource);
  const watching = sources.filter(({ watch }) => watch !== undefined);
  const name = choice.name ?? (sources.map((source) => source.name).join(', ') || 'offers');
  return {
    name,
    async read(context) {
      const read = await readParts(parts, context);
      const all = <T>(pick: (contents: SourceContents) => readonly T[] | undefined) => read.flatMap((each) => pick(each) ?? []);
      const found = {
        offers: all((each) => each.offers),
        omitted: all((each) => each.omitted),
        excluded: all((each) => each.excluded),
        remarks: all((each) => each.remarks),
        notes: all((each) => each.notes),
        settings: all((each) => each.settings),
        files: all((each) => each.files),
        ...tooMany(read),
      };
      return choose(found, choice, name);
    },
    ...(watching.length > 0 && {
      watch(changed: () => void) {
        const stops = watching.map((source) => source.watch!(changed));
        return () => stops.forEach((stop) => stop());
      },
    }),
    async freeze(context) {
      const frozen = await freezeParts(parts, context);
      return frozen.every((part) => part === null) ? undefined : frozen;
    },
    thaw: (frozen) => offers(thawParts(parts, frozen as FrozenParts), { ...choice, name }),
    gauges: () =>
      Object.fromEntries(
        [...gaugesOf(parts)].flatMap(([source, held]) =>
          Object.entries(held).map(([key, value]) => [parts.length === 1 ? key : `${source} ${key}`, value]),
        ),
      ),
    close: () => closeParts(parts),
  };
}

/** The first advice there is. */
function tooMany(read: readonly SourceContents[]): Pick<SourceContents, 'whenTooMany'> {
  const advice = read.find(({ whenTooMany }) => whenTooMany !== undefined)?.whenTooMany;
  return advice === undefined ? {} : { whenTooMany: advice };
}

/** @throws JexoError JEXO_CHOICE when a choice names nothing */
export function choose(found: SourceContents, choice: Choice, where: string): SourceContents {
  const { only, except, rename = {}, describe = {}, prefix = '', tags = [] } = choice;
  const need = (pattern: string, field: string): ReadonlySet<Offer> => {
    const matching = new Set(found.offers.filter((offer) => matches(offer, pattern)));
    // Naming what a source had to omit does no harm.
    if (matching.size > 0 || (field === 'except' && found.omitted?.some(({ name }) => name === pattern))) return matching;
    const names = found.offers.flatMap(namesOf);
    const near = nearest(pattern, names);
    const unreadable = found.omitted?.find(({ name }) => name === pattern);
    throw new JexoError(
      'JEXO_CHOICE',
      `${field} names ${JSON.stringify(pattern)}, which is not among the ${counted(found.offers.length, 'offer')} of ${where}.`,
      {
        where: field,
        ...(near !== undefined && { next: `Did you mean ${near}?` }),
        ...(unreadable !== undefined && { next: `It could not be offered: ${unreadable.why}. ${unreadable.next}` }),
      },
    );
  };
  const named = <T>(map: Readonly<Record<string, T>>, field: string): ReadonlyMap<Offer, T> =>
    new Map(Object.entries(map).flatMap(([pattern, value]) => [...need(pattern, field)].map((offer) => [offer, value] as const)));
  const kept = only === undefined ? undefined : new Set(only.flatMap((pattern) => [...need(pattern, 'only')]));
  const dropped = new Set((except ?? []).flatMap((pattern) => [...need(pattern, 'except')]));
  const names = named(rename, 'rename');
  const descriptions = named(describe, 'describe');
  const isKept = (offer: Offer) => offer.comesAlong || ((kept === undefined || kept.has(offer)) && !dropped.has(offer));
  return {
    // What was not asked for need not be complained of.
    omitted:
      only === undefined
        ? (found.omitted ?? [])
        : (found.omitted ?? []).filter(({ name }) => only.some((pattern) => glob(pattern).test(name))),
    excluded: [...(found.excluded ?? []), ...found.offers.filter((offer) => !isKept(offer)).map(({ name }) => name)],
    settings: found.settings ?? [],
    remarks: found.remarks ?? [],
    notes: found.notes ?? [],
    files: found.files ?? [],
    ...(found.whenTooMany !== undefined && { whenTooMany: found.whenTooMany }),
    offers: found.offers.filter(isKept).map((offer) => {
      const own = names.get(offer) ?? offer.name;
      const name = offer.kind === 'tool' || offer.kind === 'prompt' ? prefix + own : own;
      const description = descriptions.get(offer);
      if (name === offer.name && description === undefined && tags.length === 0) return offer;
      return {
        ...offer,
        name,
        ...(description !== undefined && { description }),
        ...(tags.length > 0 && { tags: [...new Set([...(offer.tags ?? []), ...tags])] }),
      };
    }),
  };
}

function namesOf(offer: Offer): string[] {
  const uri = offer.kind === 'resource' ? [offer.uri] : offer.kind === 'template' ? [offer.template.text] : [];
  return [offer.name, ...uri, ...(offer.aliases ?? [])];
}

function matches(offer: Offer, pattern: string): boolean {
  if (pattern.startsWith('tag:')) return offer.tags?.includes(pattern.slice(4)) ?? false;
  const test = glob(pattern);
  return namesOf(offer).some((name) => test.test(name));
}

/** A pattern of a choice as an expression: `*` stands for anything. */
export function glob(pattern: string): RegExp {
  return new RegExp(
    `^${pattern
      .split('*')
      .map((part) => part.replaceAll(/[.+?^${}()|[\]\\]/g, String.raw`\$&`))
      .join('.*')}$`,
  );
}
