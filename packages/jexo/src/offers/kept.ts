const shelf = ((globalThis as Record<symbol, unknown>)[Symbol.for('jexo.kept')] ??= new Map<string, unknown>()) as Map<string, unknown>;

/**
 * Keeps a value over reloads of `jexo serve --watch`: it is made once in a process, however often the module that asks for
 * it is loaded again. A module without any import of ours may keep things on `globalThis` itself.
 *
 * @param name tells it from others in the process
 * @example
 * const visits = kept('visits', () => new Map<string, number>());
 */
export function kept<T>(name: string, make: () => T): T {
  if (!shelf.has(name)) shelf.set(name, make());
  return shelf.get(name) as T;
}
