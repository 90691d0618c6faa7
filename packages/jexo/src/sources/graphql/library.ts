import type * as Library from 'graphql';
import { loadPackage } from '../../optional-package.js';

/** The GraphQL library, which is loaded when a source needs it. */
export type GraphQL = typeof Library;

let loaded: Promise<GraphQL> | undefined;

/** @throws JexoError JEXO_PACKAGE_MISSING */
export function loadGraphql(): Promise<GraphQL> {
  return (loaded ??= loadPackage<GraphQL>('graphql').catch((error: unknown) => {
    loaded = undefined;
    throw error;
  }));
}
