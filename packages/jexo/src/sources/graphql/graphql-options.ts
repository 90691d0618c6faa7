import type { JsonSchema } from '../../protocol/types.js';

/** JSON Schema for custom scalars, by their names: `{ Date: { type: 'string', format: 'date' } }`. */
export type ScalarSchemas = Readonly<Record<string, JsonSchema>>;

/** Where operations are: a folder, a file, or texts by name. */
export type OperationsPlace = string | URL | Readonly<Record<string, string>>;

/** What a schema is given as: the path or address of SDL or of an introspection, the SDL itself, or an introspection. */
export type SchemaPlace = string | URL | object;

/** Limits on what a model may ask by itself. */
export interface ExploreOptions {
  /** Lets it run mutations too. Default false. */
  readonly mutations?: boolean;
  /** Levels of fields. Default 8. */
  readonly depth?: number;
  /** Fields in all. Default 150. */
  readonly fields?: number;
  /** Values at most, where each list counts as many times as it is asked for, or as ten. Default 20,000. */
  readonly cost?: number;
}
