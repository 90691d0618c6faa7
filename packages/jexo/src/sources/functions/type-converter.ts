import type ts from 'typescript';
import type { JsonSchema } from '../../protocol/json-schema.js';
import type { Compiler } from './compiler.js';
import { convertObject } from './convert-object.js';
import { convertUnion } from './convert-union.js';
import { doesWork, orNull, Unreadable, type Converted, type Definitions } from './converted.js';
import type { JsonKind, Revive } from './shape.js';
import { templatePattern } from './template-pattern.js';

/** Types one function's schema may be made of: beyond that no model reads it, and it is most likely a whole library. */
const mostParts = 800;

/**
 * Turns types into JSON Schema, for what one function takes (`in`) or gives (`out`). The two differ where a value crosses
 * the border only one way: a method is no data when it leaves, and cannot be made when it arrives.
 */
export class TypeConverter {
  /** Types that are being converted, with the name under which they contain themselves. */
  private readonly open = new Map<ts.Type, string | undefined>();
  /** Where in the converted type we are: `.place`, `.apiary`. */
  readonly path: string[] = [];
  private schemas: Record<string, JsonSchema> = {};
  private revives: Record<string, Revive> = {};
  private parts = 0;
  /** False for a parameter that need not be given: a member of it that cannot be expressed is omitted, required or not. */
  isNeeded = true;

  /** @param onOmitted called with optional parts that had to be omitted */
  constructor(
    readonly ts: Compiler,
    readonly checker: ts.TypeChecker,
    readonly at: ts.Node,
    readonly direction: 'in' | 'out',
    readonly onOmitted: (path: string, problem: Unreadable) => void,
  ) {}

  /**
   * Converts the type of a parameter or of what is returned.
   * @throws Unreadable
   */
  convertRoot(type: ts.Type, needed = true): Converted {
    this.isNeeded = needed;
    return this.convert(type);
  }

  /** What has been referred to so far, for `$defs`; afterwards there is nothing. */
  takeDefinitions(): Definitions {
    const { schemas, revives } = this;
    this.schemas = {};
    this.revives = {};
    this.parts = 0;
    return { ...(Object.keys(schemas).length > 0 && { schemas }), ...(Object.keys(revives).length > 0 && { revives }) };
  }

  has(type: ts.Type, flags: number): boolean {
    return (type.flags & flags) !== 0;
  }

  text(type: ts.Type): string {
    return this.checker.typeToString(type, this.at);
  }

  convert(type: ts.Type): Converted {
    const { TypeFlags: flags } = this.ts;
    if (this.has(type, flags.Any | flags.Unknown)) return { schema: {} };
    if (this.has(type, flags.BigIntLike)) return { schema: { type: 'string', pattern: String.raw`^-?\d+$` }, revive: { to: 'bigint' } };
    if (this.has(type, flags.ESSymbolLike)) throw new Unreadable('is a symbol, which JSON does not have', 'Take a string instead.');
    if (this.has(type, flags.TypeParameter | flags.Conditional | flags.IndexedAccess | flags.Substitution)) {
      // Whatever fits the bound of a type parameter may be given; one without a bound takes anything.
      const bound = this.checker.getBaseConstraintOfType(type);
      return bound === undefined || bound === type ? { schema: {} } : this.convert(bound);
    }
    if (this.has(type, flags.Index)) return { schema: { type: 'string' } };
    if (this.has(type, flags.Never)) throw new Unreadable('has the type never, which no value fits', 'Give it a type that has values.');
    if (type.isUnion()) return this.once(type, undefined, () => convertUnion(this, type));
    if (this.has(type, flags.StringLiteral | flags.NumberLiteral)) return { schema: { const: (type as ts.LiteralType).value } };
    if (this.has(type, flags.BooleanLiteral)) return { schema: { const: this.text(type) === 'true' } };
    if (this.has(type, flags.TemplateLiteral))
      return { schema: { type: 'string', pattern: templatePattern(this, type as ts.TemplateLiteralType) } };
    if (this.has(type, flags.StringLike)) return { schema: { type: 'string' } };
    if (this.has(type, flags.NumberLike)) return { schema: { type: 'number' } };
    if (this.has(type, flags.BooleanLike)) return { schema: { type: 'boolean' } };
    if (this.has(type, flags.Null)) return { schema: { type: 'null' } };
    if (this.has(type, flags.Undefined | flags.Void)) return { schema: {} };
    if (type.isIntersection()) {
      const primitive = type.types.find((part) =>
        this.has(part, flags.StringLike | flags.NumberLike | flags.BooleanLike | flags.BigIntLike),
      );
      if (primitive !== undefined) return this.convert(primitive); // a branded primitive
    }
    if (this.has(type, flags.NonPrimitive)) return { schema: { type: 'object' } };
    if (this.has(type, flags.Object | flags.Intersection)) return convertObject(this, type);
    throw new Unreadable(
      `has the type ${this.text(type)}, which cannot be written as JSON Schema`,
      'Write a schema for it with tool(), or leave it out.',
    );
  }

  /** An item of a list: what is undefined leaves as null, to keep its place. */
  convertItem(item: ts.Type): Converted {
    const made = this.convert(item);
    return this.direction === 'out' && this.mayBeUndefined(item) ? { ...made, schema: orNull(made.schema) } : made;
  }

  listOf(item: ts.Type): Converted {
    const { schema, revive } = this.convertItem(item);
    return { schema: { type: 'array', items: schema }, ...(revive && { revive: { to: 'list', item: revive } }) };
  }

  /** A type that contains itself is written once under $defs and referred to. */
  once(type: ts.Type, kind: JsonKind | undefined, make: () => Converted): Converted {
    if (this.open.has(type)) {
      const known = this.open.get(type) ?? this.definitionName(type);
      this.open.set(type, known);
      return { schema: { $ref: `#/$defs/${known}` }, revive: { to: 'ref', name: known }, kind };
    }
    if (++this.parts > mostParts)
      throw new Unreadable(
        `has the type ${this.text(type)}, which is too large for a model to read`,
        'Take only the fields that are needed.',
      );
    this.open.set(type, undefined);
    let made: Converted;
    let known: string | undefined;
    try {
      made = make();
    } finally {
      known = this.open.get(type);
      this.open.delete(type);
    }
    const revive = made.revive !== undefined && doesWork(made.revive, known) ? made.revive : undefined;
    if (known === undefined) return { schema: made.schema, ...(revive && { revive }), kind: made.kind };
    this.schemas[known] = made.schema;
    const reference = { schema: { $ref: `#/$defs/${known}` }, kind };
    if (revive === undefined) return reference;
    this.revives[known] = revive;
    return { ...reference, revive: { to: 'ref', name: known } };
  }

  /** Converts a part; an optional one that cannot be converted is omitted and reported. */
  attempt(step: string, optional: boolean, read: () => Converted): Converted | undefined {
    this.path.push(step);
    try {
      return read();
    } catch (error) {
      if (!(error instanceof Unreadable)) throw error;
      if (!optional || this.direction === 'out')
        throw new Unreadable(error.why.startsWith('(') ? `(${step}${error.why.slice(1)}` : `(${step}) ${error.why}`, error.next);
      this.onOmitted(this.path.join(''), error);
      return undefined;
    } finally {
      this.path.pop();
    }
  }

  mayBeUndefined(type: ts.Type): boolean {
    const { Undefined } = this.ts.TypeFlags;
    return this.has(type, Undefined) || (type.isUnion() && type.types.some((part) => this.has(part, Undefined)));
  }

  private definitionName(type: ts.Type): string {
    const wanted = (type.aliasSymbol?.getName() ?? type.symbol?.getName() ?? '').replaceAll(/[^A-Za-z0-9]/g, '') || 'Value';
    const taken = new Set([...Object.keys(this.schemas), ...this.open.values()]);
    let free = wanted;
    for (let count = 2; taken.has(free); count++) free = `${wanted}${count}`;
    return free;
  }
}
