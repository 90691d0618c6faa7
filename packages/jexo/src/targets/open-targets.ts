import { JexoError } from '../errors.js';
import type { Choice } from '../offers/choose.js';
import type { ServeDefaults } from '../plans/serve-settings.js';
import { defineServer, speaksTo, type Server, type ServerDefinition } from '../offers/define-server.js';
import { together } from '../offers/together.js';
import { findKinds, type Found } from './find-kind.js';
import type { Opened, OpenHow, Target, TargetKind } from './target-kind.js';

/** How targets are made a server. */
export interface OpenOptions {
  /** The name the server gives itself. Default: that of the targets. */
  readonly name?: string;
  /** Which offers are kept, and what they are called. */
  readonly choice?: Choice;
  /** Options of the targets' kinds, by their names: `{ baseUrl: 'https://…' }` for a document. */
  readonly options?: Readonly<Record<string, unknown>>;
  /** Takes modules that have changed again. */
  readonly again?: boolean;
  /** Takes modules with a state of their own, whatever was loaded before; the packages they import are shared. */
  readonly fresh?: boolean;
  /** Kinds of target beside those that ship. */
  readonly kinds?: readonly TargetKind[];
  /** Changes the definition of the server that was made: who sees what, middleware. */
  readonly reshape?: (definition: ServerDefinition, serve: ServeDefaults | undefined) => ServerDefinition;
}

/**
 * Makes a server of a target that is read, not connected to.
 * @throws JexoError
 */
export async function openTarget(target: Target, options: OpenOptions = {}): Promise<Server> {
  return (await openTargets([target], options)).server;
}

/**
 * Several targets are served as one: their offers stand side by side, and two of one name are refused.
 * @throws JexoError
 */
export async function openTargets(targets: readonly Target[], options: OpenOptions = {}): Promise<Opened> {
  const found = await findKinds(targets, options.kinds);
  const how = howToOpen(found, options);
  const [only] = found;
  // Offers are chosen before a document puts them behind three tools, as long as the choice is about that document alone.
  const isChosenWithin = found.length === 1 && only!.kind.choosesItself === true;
  const opened = await Promise.all(found.map((each) => openOne(each, isChosenWithin ? how : { ...how, choice: {} })));
  const joined = together(
    opened.map((each) => each.server),
    options.name,
    isChosenWithin ? {} : how.choice,
    targets.map(String).join(', '),
  );
  const serve = opened.find((each) => each.serve !== undefined)?.serve;
  const server = options.reshape === undefined ? joined : defineServer(options.reshape(joined.definition, serve));
  speaksTo(joined, server);
  return { server, files: opened.flatMap((each) => each.files), ...(serve && { serve }) };
}

/** @throws JexoError JEXO_USAGE for an option that none of the kinds takes */
export function howToOpen(found: readonly Found[], { choice = {}, options = {}, again = false, fresh = false }: OpenOptions): OpenHow {
  requireOptions(found, options);
  return { choice, options, again, fresh };
}

/** @throws JexoError JEXO_USAGE for an option that none of the kinds takes */
export function requireOptions(found: readonly Found[], options: Readonly<Record<string, unknown>>): void {
  const known = new Set(found.flatMap(({ kind }) => (kind.options ?? []).map(({ name }) => name)));
  for (const [name, value] of Object.entries(options)) {
    if (value === undefined || known.has(name)) continue;
    const shown = `--${name.replaceAll(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)}`;
    throw new JexoError('JEXO_USAGE', `${shown} means nothing to ${found.map(({ kind }) => kind.noun).join(' and ')}.`, {
      where: shown,
      next: 'Omit it, or give a target of the kind it is for.',
    });
  }
}

async function openOne({ target, kind, options }: Found, given: OpenHow): Promise<Opened> {
  const how = options === undefined ? given : { ...given, options: { ...given.options, ...options } };
  if (kind.open === undefined && kind.bridge !== undefined) return kind.bridge(target, how);
  if (kind.open === undefined)
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${String(target)} is ${kind.noun}, not something to serve.`, {
      where: String(target),
      next: 'Give a module or an installed package, whose functions or server are to be served.',
    });
  return kind.open(target, how);
}
