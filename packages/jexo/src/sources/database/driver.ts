import type { ColumnType } from './column-types.js';
import type { Place } from './place.js';

/** A column of a result. */
export interface ResultColumn {
  readonly name: string;
  readonly type: ColumnType;
  /** False when the database promises a value. */
  readonly nullable: boolean;
}

/** A column of a table or a view. */
export interface Column extends ResultColumn {
  readonly comment?: string;
  /** The database makes a value when none is given. */
  readonly hasDefault: boolean;
}

/** A foreign key. */
export interface Relation {
  readonly columns: readonly string[];
  readonly table: string;
  readonly schema?: string;
  readonly to: readonly string[];
}

/** A table or a view. */
export interface Table {
  /** Where the dialect has schemas. */
  readonly schema?: string;
  readonly name: string;
  readonly kind: 'table' | 'view';
  readonly comment?: string;
  readonly columns: readonly Column[];
  /** The columns of its key, which has a value in every row; empty when there is none. */
  readonly key: readonly string[];
  readonly relations: readonly Relation[];
  /** About how many rows. */
  readonly rows?: number;
}

/** Bounds of one read. */
export interface ReadLimits {
  /** Rows that are kept; whether there are more is told. */
  readonly maxRows: number;
  /** Bytes of all rows as JSON; at least one row is kept. */
  readonly maxBytes: number;
  readonly timeoutMs: number;
  readonly signal: AbortSignal;
  /** Rows passed over at the beginning. */
  readonly skip?: number;
  /** True when the statement itself yields at most one row more than `maxRows`, so that it may be run in one go. */
  readonly isBounded?: boolean;
}

/** Rows as JSON values, in the order of the columns. */
export interface Rows {
  readonly columns: readonly ResultColumn[];
  readonly rows: readonly (readonly unknown[])[];
  /** Why it ends before the last row. */
  readonly cut?: 'rows' | 'bytes';
}

/** What a statement did. */
export interface Written extends Rows {
  readonly affected: number;
}

/** What the database tells of a statement without running it. */
export interface Described {
  readonly columns: readonly ResultColumn[];
  /** In the order of the placeholders; undefined where it cannot tell. */
  readonly parameters: readonly (ColumnType | undefined)[];
}

/** Bounds of a pool. */
export interface PoolOptions {
  /** Connections at once. */
  readonly connections: number;
  /** Callers that may wait for one. */
  readonly queue: number;
  readonly idleMs: number;
  readonly connectMs: number;
  /** The usual time limit of a statement. */
  readonly timeoutMs: number;
  /** Bytes of one blob that are answered. */
  readonly maxBlobBytes: number;
}

/** One database, by its driver. Every connection a call takes is given back before it ends, without a transaction or a cursor. */
export interface Driver {
  readonly place: Place;
  /** Reads what there is. */
  tables(signal: AbortSignal): Promise<readonly Table[]>;
  /** What a statement takes and answers. It is not run. */
  describe(sql: string): Promise<Described>;
  /** Runs a statement of the person who wraps the database, in a transaction that writes nothing. */
  read(sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows>;
  /** Runs a statement of somebody unknown, which passed the gate: see `gate.ts`. Nothing it does outlives the call. */
  readUntrusted(sql: string, values: readonly unknown[], limits: ReadLimits): Promise<Rows>;
  /** Runs a statement that writes, in a transaction; with `keep: false` it is rolled back. */
  write(sql: string, values: readonly unknown[], limits: ReadLimits & { readonly keep: boolean }): Promise<Written>;
  /** Makes a value of a parameter of what was given as JSON. */
  toParameter(value: unknown, type: ColumnType): unknown;
  /** Names of functions that read and do nothing else. */
  functions(): Promise<ReadonlySet<string>>;
  /** Names that may stand before a table, of the database's own schemas and of others; in lower case. */
  schemas(): Promise<{ readonly own: readonly string[]; readonly others: readonly string[] }>;
  /** What this connection may do beyond reading and writing rows, which the open tool must not be given; undefined when it is harmless. */
  power(): Promise<string | undefined>;
  /** Calls `changed` when rows have changed, with the table where it is known; returns how to stop. */
  watch(changed: (table: string | undefined) => void, everyMs: number): () => void;
  /** The plan of a statement, as the database words it. */
  explain(sql: string, values: readonly unknown[], limits: ReadLimits): Promise<string>;
  /** Quotes a name. */
  quote(name: string): string;
  /** Connections that are open. */
  open(): number;
  /** Callers that wait for one. */
  waiting(): number;
  close(): Promise<void>;
}
