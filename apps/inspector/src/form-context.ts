import { createContext, useContext } from 'react';
import type { Issue, JsonSchema } from './model';

/** What every field of a form knows. */
interface FormContext {
  readonly root: JsonSchema;
  readonly issues: readonly Issue[];
  /** Fields a person has been in and left, by their paths. */
  readonly left: ReadonlySet<string>;
  readonly leave: (path: string) => void;
  /** What is wrong is shown everywhere: the form was sent. */
  readonly showAll: boolean;
  readonly suggest?: (name: string, typed: string) => void;
  readonly suggestions: Readonly<Record<string, readonly string[]>>;
}
export const Form = createContext<FormContext>({
  root: {},
  issues: [],
  left: new Set(),
  leave: () => undefined,
  showAll: false,
  suggestions: {},
});

/** What is wrong at a field, once it may be said: nobody is corrected while typing. */
export function useShownIssues(path: string): readonly Issue[] {
  const { issues, left, showAll } = useContext(Form);
  return showAll || left.has(path) ? issues.filter((issue) => issue.path === path) : [];
}

export interface FieldProps {
  readonly name: string;
  readonly path: string;
  readonly schema: JsonSchema;
  readonly required: boolean;
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
}
