import { kindOf } from '../engine/servable.js';
import { JexoError } from '../errors.js';
import { commandKind } from './kinds/command.js';
import { databaseKind } from './kinds/database.js';
import { documentKind } from './kinds/document.js';
import { entryKind } from './kinds/entry.js';
import { graphqlKind } from './kinds/graphql.js';
import { folderKind } from './kinds/folder.js';
import { hostsKind } from './kinds/hosts.js';
import { moduleKind } from './kinds/module.js';
import { planKind } from './kinds/plan.js';
import { packageKind } from './kinds/package.js';
import { topicsKind } from './kinds/topics.js';
import { urlKind } from './kinds/url.js';
import { installedKinds } from './installed-kinds.js';
import { peekAt } from './peek.js';
import type { Target, TargetKind } from './target-kind.js';

/** The kinds of target there are, in the order in which they are asked. */
export const targetKinds: readonly TargetKind[] = [
  planKind,
  graphqlKind,
  urlKind,
  databaseKind,
  topicsKind,
  entryKind,
  moduleKind,
  folderKind,
  hostsKind,
  documentKind,
  packageKind,
];

/** A target with its kind, ready for whatever the kind can do. */
export interface Found<T extends Target = Target> {
  readonly target: T;
  readonly kind: TargetKind<T>;
  /** Options that the word behind the target stands for. */
  readonly options?: Readonly<Record<string, unknown>>;
}

/**
 * Reads the one target grammar of every command and of `connect()`.
 *
 * @param more kinds that are asked before those that ship
 * @param loads false runs no code of an installed package that brings a kind
 * @throws JexoError JEXO_TARGET_UNKNOWN
 */
export async function findKind(target: Target, more: readonly TargetKind[] = [], { loads = true } = {}): Promise<Found> {
  if (typeof target !== 'string') {
    if (Array.isArray(target) && target.every((word) => typeof word === 'string')) return { target, kind: commandKind } as Found;
    throw new JexoError(
      'JEXO_TARGET_UNKNOWN',
      `A target is a text, a URL, a server, or a command as a list of words; ${kindOf(target)} was given.`,
      {
        where: 'target',
      },
    );
  }
  const peek = peekAt(target);
  for (const kind of [...more, ...targetKinds]) if (await kind.matches(target, peek)) return { target, kind } as Found;
  for (const kind of await installedKinds(target, loads)) if (await kind.matches(target, peek)) return { target, kind } as Found;
  throw new JexoError('JEXO_TARGET_UNKNOWN', `${target === '' ? 'An empty target' : target} names no server that Jexo can read.`, {
    where: target,
  });
}

/** As `findKind`, of several. A word may belong to the target before it: the operations to a schema. */
export async function findKinds(targets: readonly Target[], more?: readonly TargetKind[]): Promise<readonly Found[]> {
  const found: Found[] = [];
  for (const target of targets) {
    const before = found.at(-1);
    const options = typeof target === 'string' ? before?.kind.takesNext?.(before.target, target) : undefined;
    if (before !== undefined && options !== undefined) found.splice(-1, 1, { ...before, options: { ...before.options, ...options } });
    else found.push(await findKind(target, more));
  }
  return found;
}
