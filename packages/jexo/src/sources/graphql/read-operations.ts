import { readdir, readFile, stat } from 'node:fs/promises';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { DocumentNode, FragmentDefinitionNode, GraphQLSchema, OperationDefinitionNode } from 'graphql';
import { JexoError, messageOf } from '../../errors.js';
import type { Omission } from '../../offers/source.js';
import { splitText } from '../functions/doc-comment.js';
import type { GraphQL } from './library.js';
import { placeOf } from './read-schema.js';
import type { OperationsPlace } from './graphql-options.js';

/** An operation as it is written. */
export interface WrittenOperation {
  readonly name: string;
  readonly operation: OperationDefinitionNode;
  /** What is sent: the operation with the fragments it uses. */
  readonly text: string;
  readonly fragments: ReadonlyMap<string, FragmentDefinitionNode>;
  readonly doc: OperationDoc;
  /** Its file with the line. */
  readonly where: string;
}

/** The comment above an operation. */
export interface OperationDoc {
  readonly description?: string;
  readonly title?: string;
  readonly parameters: ReadonlyMap<string, { readonly description?: string; readonly keywords: Readonly<Record<string, unknown>> }>;
  readonly examples: readonly string[];
  readonly tags: readonly string[];
  readonly confirm?: string;
  readonly isReadOnly: boolean;
  readonly isIdempotent: boolean;
  readonly isDestructive?: boolean;
  readonly isInternal: boolean;
}

const isOperationFile = (name: string) => /\.(?:graphqls?|gql)$/i.test(name);
export const operationsFolder = (place: OperationsPlace): string | undefined =>
  place instanceof URL ? fileURLToPath(place) : typeof place === 'string' ? place : undefined;

/** The texts of operations by their files. @throws JexoError JEXO_TARGET_MISSING */
export async function operationTexts(place: OperationsPlace): Promise<Readonly<Record<string, string>>> {
  const path = operationsFolder(place);
  if (path === undefined) return place as Readonly<Record<string, string>>;
  try {
    if ((await stat(path)).isFile()) return { [path]: await readFile(path, 'utf8') };
    const names = (await readdir(path, { recursive: true })).filter(isOperationFile).sort();
    return Object.fromEntries(
      await Promise.all(names.map(async (name) => [join(path, name), await readFile(join(path, name), 'utf8')] as const)),
    );
  } catch (error) {
    throw new JexoError('JEXO_TARGET_MISSING', `The operations in ${path} cannot be read: ${messageOf(error)}`, {
      where: path,
      cause: error,
    });
  }
}

/** Reads operations; those that are wrong are reported with their place, and the others are kept. */
export function readOperations(
  g: GraphQL,
  schema: GraphQLSchema,
  texts: Readonly<Record<string, string>>,
): { readonly operations: readonly WrittenOperation[]; readonly omitted: readonly Omission[] } {
  const omitted: Omission[] = [];
  const omit = (name: string, where: string, why: string, next = 'Fix the operation.') =>
    omitted.push({ name, what: 'operation', where, why, next, code: 'JEXO_DOCUMENT' });
  const documents: { file: string; document: DocumentNode }[] = [];
  for (const [file, text] of Object.entries(texts))
    try {
      documents.push({ file, document: g.parse(new g.Source(text, file)) });
    } catch (error) {
      omit(file.replace(/^.*[\\/]/, ''), `${file}:${placeOf(g, error) ?? '1:1'}`, messageOf(error).replace(/\.$/, ''));
    }
  // Fragments of one file serve the operations of all.
  const fragments = new Map<string, FragmentDefinitionNode>();
  for (const { document } of documents)
    for (const definition of document.definitions)
      if (definition.kind === g.Kind.FRAGMENT_DEFINITION) fragments.set(definition.name.value, definition);
  const operations: WrittenOperation[] = [];
  const seen = new Map<string, string>();
  for (const { file, document } of documents)
    for (const definition of document.definitions) {
      if (definition.kind !== g.Kind.OPERATION_DEFINITION) continue;
      const line = definition.loc?.startToken.line ?? 1;
      const where = `${file}:${line}`;
      const name = definition.name?.value;
      if (name === undefined) {
        omit(
          `the ${definition.operation} at line ${line}`,
          where,
          'it has no name, and a tool needs one',
          `Write it as: ${definition.operation} aName { … }`,
        );
        continue;
      }
      const used = usedFragments(g, definition, fragments);
      const own: DocumentNode = { kind: g.Kind.DOCUMENT, definitions: [definition, ...used] };
      const [fault] = g.validate(
        schema,
        own,
        g.specifiedRules.filter((rule) => rule !== g.NoUnusedFragmentsRule),
      );
      const before = seen.get(name);
      if (fault !== undefined) omit(name, faultPlace(g, fault, file), fault.message.replace(/\.$/, ''));
      else if (before !== undefined) omit(name, where, `an operation of this name is at ${before} already`, 'Rename one of the two.');
      else
        try {
          const doc = readDoc(definition, file);
          if (doc.isInternal) continue;
          seen.set(name, where);
          operations.push({ name, operation: definition, text: g.print(own), fragments, doc, where });
        } catch (error) {
          omit(name, where, messageOf(error).replace(/\.$/, ''));
        }
    }
  return { operations, omitted };
}

function faultPlace(g: GraphQL, fault: { source?: { name: string } | undefined }, file: string): string {
  const at = placeOf(g, fault);
  return `${fault.source?.name ?? file}${at === undefined ? '' : `:${at}`}`;
}

/** The fragments that an operation spreads, and those that these spread. */
function usedFragments(
  g: GraphQL,
  operation: OperationDefinitionNode,
  fragments: ReadonlyMap<string, FragmentDefinitionNode>,
): FragmentDefinitionNode[] {
  const found = new Map<string, FragmentDefinitionNode>();
  const look = (node: OperationDefinitionNode | FragmentDefinitionNode): void => {
    g.visit(node, {
      FragmentSpread({ name }) {
        const fragment = fragments.get(name.value);
        if (fragment === undefined || found.has(name.value)) return;
        found.set(name.value, fragment);
        look(fragment);
      },
    });
  };
  look(operation);
  return [...found.values()];
}

const flags = ['readOnly', 'idempotent', 'destructive', 'internal'];
const texts = ['title', 'example', 'tags', 'confirm'];

/** The comment lines directly above an operation. @throws Error for a tag that is none */
function readDoc({ loc, variableDefinitions = [] }: OperationDefinitionNode, file: string): OperationDoc {
  const lines: string[] = [];
  let line = loc?.startToken.line ?? 1;
  for (let token = loc?.startToken.prev; token?.kind === 'Comment'; token = token.prev) {
    if (token.line !== line - 1) break;
    lines.unshift(token.value.replace(/^ /, ''));
    line = token.line;
  }
  const blocks: { tag?: string; text: string }[] = [{ text: '' }];
  for (const each of lines) {
    const [, tag, rest = ''] = /^\s*@(\w+)\s*(.*)$/.exec(each) ?? [];
    if (tag === undefined) blocks.at(-1)!.text += `\n${each}`;
    else blocks.push({ tag, text: rest });
  }
  const parameters = new Map<string, { description?: string; keywords: Readonly<Record<string, unknown>> }>();
  const found = new Map<string, string[]>();
  for (const { tag, text } of blocks) {
    if (tag === undefined) continue;
    if (tag === 'param') {
      const [, name, rest = ''] = /^\$?(\w+)\s*([\s\S]*)$/.exec(text.trim()) ?? [];
      if (name === undefined || !variableDefinitions.some(({ variable }) => variable.name.value === name))
        throw new Error(`@param describes ${name ?? 'nothing'}, which is no variable of the operation (${file})`);
      parameters.set(name, splitText(` ${rest.replaceAll('\n', ' ')}`));
    } else if (flags.includes(tag) || texts.includes(tag)) found.set(tag, [...(found.get(tag) ?? []), text.trim()]);
    else
      throw new Error(
        `@${tag} is no tag of an operation; these are: ${['param', ...flags, ...texts].map((each) => `@${each}`).join(', ')}`,
      );
  }
  const one = (tag: string) => found.get(tag)?.at(-1);
  const description = blocks[0]!.text.trim();
  return {
    ...(description !== '' && { description }),
    ...(one('title') !== undefined && { title: one('title')! }),
    parameters,
    examples: found.get('example') ?? [],
    tags: (one('tags') ?? '').split(/[\s,]+/).filter(Boolean),
    ...(one('confirm') !== undefined && { confirm: one('confirm')! }),
    isReadOnly: found.has('readOnly'),
    isIdempotent: found.has('idempotent'),
    ...(found.has('destructive') && { isDestructive: one('destructive') !== 'false' }),
    isInternal: found.has('internal'),
  };
}
