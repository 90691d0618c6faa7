import { useEffect, useRef, useState } from 'react';
import { checkInput, complete } from './api';
import type { CallRequest, CallSheet, Issue, JsonSchema, ShelfItem } from './model';
import type { Input } from './schema-shapes';

/** What is called when the sheet is. */
export function requestOf(connection: number, { kind, key }: ShelfItem, input: Input, more: Partial<CallRequest>): CallRequest {
  if (kind === 'template') return { connection, kind: 'resource', name: key, item: key, input };
  return { connection, kind, name: key, input: kind === 'resource' ? {} : input, ...more };
}

/** True for a call of what lies on the sheet. */
export function belongs(call: CallSheet, { kind, key }: ShelfItem): boolean {
  if (kind === 'template') return call.item === key;
  return call.kind === kind && call.name === key && call.item === undefined;
}

/** What is filled in: a tool's own schema, a prompt's arguments, a template's variables. */
export function schemaOf(item: ShelfItem): JsonSchema {
  const { offer } = item;
  if (item.kind === 'tool') return offer.inputSchema;
  const text = (name: string, description?: string) =>
    [name, { type: 'string', ...(description !== undefined && { description }) }] as const;
  if (item.kind === 'prompt') {
    const args = offer.arguments ?? [];
    return {
      type: 'object',
      properties: Object.fromEntries(args.map(({ name, description }) => text(name, description))),
      required: args.filter(({ required }) => required).map(({ name }) => name),
      additionalProperties: false,
    };
  }
  const expressions = item.kind === 'template' ? [...item.key.matchAll(/\{([+#./;?&]?)([^}]+)\}/g)] : [];
  const variables = expressions.flatMap(([, operator, names]) =>
    names!.split(',').map((name) => ({ name: name.replace(/[*:].*$/, ''), optional: operator === '?' || operator === '&' })),
  );
  return {
    type: 'object',
    properties: Object.fromEntries(variables.map(({ name }) => text(name))),
    required: variables.filter(({ optional }) => !optional).map(({ name }) => name),
    additionalProperties: false,
  };
}

/** The key that calls what lies on the bench, from wherever one is. */
export function useCallKey(run: () => Promise<void>): void {
  const runNow = useRef(run);
  runNow.current = run;
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key !== 'Enter' || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      void runNow.current();
    };
    addEventListener('keydown', onKey, true);
    return () => removeEventListener('keydown', onKey, true);
  }, []);
}

const checkAfterMs = 200;

/** What is wrong with the input by the tool's own schema, a moment after it was typed. Of what was changed since, nothing is said. */
export function useIssues(connection: number, item: ShelfItem, input: Input): readonly Issue[] {
  const [found, setFound] = useState<{ readonly about: Input; readonly issues: readonly Issue[] }>({ about: {}, issues: [] });
  const text = JSON.stringify(input);
  useEffect(() => {
    if (item.kind !== 'tool') return;
    const left = new AbortController();
    const timer = setTimeout(() => {
      const about = JSON.parse(text) as Input;
      checkInput(connection, item.key, about, left.signal).then(
        (issues) => setFound({ about, issues }),
        () => undefined, // the call itself will say
      );
    }, checkAfterMs);
    return () => {
      clearTimeout(timer);
      left.abort();
    };
  }, [connection, item.kind, item.key, text]);
  const isSame = (field: string) => JSON.stringify(found.about[field]) === JSON.stringify(input[field]);
  return found.issues.filter(({ path }) => path === '' || isSame(/^[^.[]*/.exec(path)![0]));
}

/** Values that the server suggests, by the field they are for. */
export function useSuggestions(connection: number, item: ShelfItem, input: Input) {
  const [suggestions, setSuggestions] = useState<Readonly<Record<string, readonly string[]>>>({});
  const asking = useRef<AbortController>(undefined);
  const suggest = (name: string, typed: string) => {
    if (item.kind !== 'prompt' && item.kind !== 'template') return;
    asking.current?.abort();
    asking.current = new AbortController();
    const { [name]: _, ...known } = input as Record<string, string>;
    complete(connection, { kind: item.kind, key: item.key }, { name, value: typed }, known, asking.current.signal).then(
      ({ values }) => setSuggestions((before) => ({ ...before, [name]: values })),
      () => undefined, // a server without suggestions is no fault of the person's
    );
  };
  return [suggestions, suggest] as const;
}
