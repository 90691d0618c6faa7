import { requiredOf } from '../../protocol/json-schema.js';
import { isRecord } from '../../protocol/is-record.js';
import type { JsonSchema } from '../../protocol/types.js';
import { type SchemaConverter } from './convert-schema.js';
import { cutText } from '../http/cut-text.js';
import type { Operation, Parameter, Place } from './operation.js';

/** What is done to one input of an operation. */
export interface InputChange {
  /** Always sent, and not asked for; `env('NAME')` reads it from the environment. */
  readonly fix?: unknown;
  /** Sent when the caller says nothing. */
  readonly default?: unknown;
  /** Another description for the caller. */
  readonly describe?: string;
  /** Another name for the caller. */
  readonly rename?: string;
  /** Not offered, and not sent. A required one must be fixed instead. */
  readonly omit?: boolean;
}

/** Where one input goes. */
export type Target = { readonly parameter: Parameter } | { readonly field: string } | { readonly whole: true };

export interface OperationInput {
  readonly schema: JsonSchema;
  /** By the name a caller uses. */
  readonly targets: ReadonlyMap<string, Target>;
  /** Sent with every call, by their targets. */
  readonly fixed: readonly (readonly [Target, unknown])[];
  /** Sent when the caller says nothing, by the name a caller uses: defaults that the developer set, not those of the document. */
  readonly defaults: ReadonlyMap<string, unknown>;
  /** The media type of the body, when there is one. */
  readonly mediaType?: string;
  /** Of a form's fields, which hold base64. */
  readonly binary: ReadonlySet<string>;
}

interface Field {
  readonly name: string;
  readonly place: Place | 'body';
  readonly target: Target;
  readonly schema: JsonSchema;
  readonly required: boolean;
}

/** A field's description is cut beyond so many characters. */
const longest = 240;
/** What hosts take as the name of a property. */
const plainName = /^[A-Za-z0-9_.-]{1,64}$/;

/** One flat input of all that goes into path, query, headers, cookies and body. */
// eslint-disable-next-line max-lines-per-function -- one pass over the fields of an operation
export function operationInput(
  operation: Operation,
  convert: SchemaConverter,
  changesOf: (name: string) => InputChange | undefined,
): OperationInput {
  const fields: Field[] = operation.parameters.map((parameter) => ({
    name: parameter.name,
    place: parameter.in,
    target: { parameter },
    schema: described(convert(parameter.schema, 'input'), parameter.description),
    required: parameter.required,
  }));
  const defs: Record<string, JsonSchema> = {};
  const binary = new Set<string>();
  const { body } = operation;
  if (body !== undefined) {
    const { $defs, ...schema } = convert(body.schema, 'input');
    Object.assign(defs, $defs);
    const isForm = /^(?:multipart\/|application\/x-www-form-urlencoded)/i.test(body.mediaType);
    const isFlat =
      (isForm || /\bjson\b/i.test(body.mediaType)) &&
      schema.$ref === undefined &&
      isRecord(schema.properties) &&
      !schema.oneOf &&
      !schema.anyOf &&
      Object.keys(schema.properties).length > 0 &&
      schema.additionalProperties === undefined;
    if (isFlat || (isForm && isRecord(schema.properties))) {
      const required = new Set(body.required || isForm ? requiredOf(schema) : []);
      for (const [name, property] of Object.entries(schema.properties as Record<string, JsonSchema>)) {
        if (isForm && holdsBytes(property)) binary.add(name);
        fields.push({ name, place: 'body', target: { field: name }, schema: forCaller(property), required: required.has(name) });
      }
    } else
      fields.push({
        name: 'body',
        place: 'body',
        target: { whole: true },
        schema: described(forCaller(schema, body.mediaType), body.description),
        required: body.required,
      });
  }
  const properties: Record<string, JsonSchema> = {};
  const required: string[] = [];
  const targets = new Map<string, Target>();
  const fixed: [Target, unknown][] = [];
  const defaults = new Map<string, unknown>();
  for (const field of named(fields)) {
    const change = changesOf(field.name) ?? {};
    if (change.fix !== undefined) {
      fixed.push([field.target, change.fix]);
      continue;
    }
    if (change.omit) {
      if (field.required) throw new TypeError(`${field.name} is required: it can be fixed, but not hidden`);
      continue;
    }
    const name = change.rename ?? field.name;
    const { $defs, ...schema } = field.schema;
    Object.assign(defs, $defs);
    properties[name] = {
      ...schema,
      ...(change.default !== undefined && { default: change.default }),
      ...(change.describe !== undefined && { description: change.describe }),
    };
    targets.set(name, field.target);
    if (change.default !== undefined) defaults.set(name, change.default);
    if (field.required && change.default === undefined) required.push(name);
  }
  return {
    schema: {
      type: 'object',
      properties,
      ...(required.length > 0 && { required }),
      additionalProperties: false,
      ...(Object.keys(defs).length > 0 && { $defs: defs }),
    },
    targets,
    fixed,
    defaults,
    ...(body && { mediaType: body.mediaType }),
    binary,
  };
}

const order: readonly Field['place'][] = ['path', 'query', 'header', 'cookie', 'body'];

/** Names a host takes; of two alike the one in the path keeps it, then query, header, cookie; the other says where it goes. */
function named(fields: readonly Field[]): Field[] {
  const taken = new Set<string>();
  const names = new Map<Field, string>();
  for (const field of [...fields].sort((a, b) => order.indexOf(a.place) - order.indexOf(b.place))) {
    const plain = plainName.test(field.name)
      ? field.name
      : field.name
          .replaceAll(/[^A-Za-z0-9_.-]+/g, '_')
          .replaceAll(/^_+|_+$/g, '')
          .slice(0, 56) || 'value';
    let name = taken.has(plain) ? `${plain}_${field.place}` : plain;
    for (let count = 2; taken.has(name); count++) name = `${plain}_${field.place}_${count}`;
    taken.add(name);
    names.set(field, name);
  }
  return fields.map((field) => ({ ...field, name: names.get(field)! }));
}

function described(schema: JsonSchema, description: string | undefined): JsonSchema {
  return description === undefined ? schema : { ...schema, description: cutText(description, longest) };
}

export function holdsBytes({ contentEncoding, items }: JsonSchema): boolean {
  return contentEncoding === 'base64' || (isRecord(items) && items.contentEncoding === 'base64');
}

/** Bytes come as base64 from a caller, whatever the schema of a body says or leaves open. */
function forCaller(schema: JsonSchema, mediaType?: string): JsonSchema {
  if (
    mediaType !== undefined &&
    !/json|^text\/|xml|form-urlencoded|^multipart\//i.test(mediaType) &&
    (schema.type === undefined || schema.type === 'string')
  )
    return {
      ...schema,
      type: 'string',
      contentEncoding: 'base64',
      description: withHint(schema.description, `The bytes (${mediaType}) as base64, or a data: URI.`),
    };
  if (mediaType !== undefined && /^text\/|xml/i.test(mediaType) && schema.type !== 'string')
    return { type: 'string', description: withHint(schema.description, `A text of type ${mediaType}.`) };
  return schema.contentEncoding === 'base64'
    ? { ...schema, description: withHint(schema.description, 'As base64, or a data: URI.') }
    : schema;
}

function withHint(description: unknown, hint: string): string {
  return typeof description === 'string' && description !== '' ? `${description}${/[.!?]$/.test(description) ? '' : '.'} ${hint}` : hint;
}
