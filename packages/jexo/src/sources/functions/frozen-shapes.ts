import { JexoError } from '../../errors.js';
import type { ModuleShape } from './shape.js';

/** Shapes by file name: those read in this process, and in a packed file those that were read when it was packed. */
const shapes = new Map<string, { readonly path: string; readonly shape: ModuleShape }>();
let frozen: ReadonlyMap<string, ModuleShape> | undefined;

function nameOf(path: string): string {
  return path.replace(/^.*[\\/]/, '');
}

const files = new Set<string>();

/** The files whose types were read in this process, packages apart. */
export function filesRead(): readonly string[] {
  return [...files];
}

export function remember(path: string, shape: ModuleShape, from: readonly string[]): void {
  for (const file of from) if (!/[\\/]node_modules[\\/]/.test(file)) files.add(file);
  const earlier = shapes.get(nameOf(path));
  if (earlier !== undefined && earlier.path !== path) clashes.add(nameOf(path));
  shapes.set(nameOf(path), { path, shape });
}
const clashes = new Set<string>();

/**
 * All shapes read so far, for freezing into a pack.
 * @throws JexoError JEXO_PACK when two files have one name: in a pack they lie in one folder
 */
export function readShapes(): Record<string, ModuleShape> {
  const [twice] = clashes;
  if (twice !== undefined)
    throw new JexoError('JEXO_PACK', `Two wrapped modules are called ${twice}; in one file they could not be told apart.`, {
      where: twice,
      next: 'Rename one of the files.',
    });
  return Object.fromEntries([...shapes].map(([name, { shape }]) => [name, shape]));
}

export function freezeShapes(all: Readonly<Record<string, ModuleShape>>): void {
  frozen = new Map(Object.entries(all));
}

export function frozenShape(path: string): ModuleShape | undefined {
  return frozen?.get(nameOf(path));
}
