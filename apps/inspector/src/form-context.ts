import { createContext } from 'react';
import type { Issue, JsonSchema } from './model';

/** What every field of a form knows. */
interface FormContext {
  readonly root: JsonSchema;
  readonly issues: readonly Issue[];
  readonly suggest?: (name: string, typed: string) => void;
  readonly suggestions: Readonly<Record<string, readonly string[]>>;
}
export const Form = createContext<FormContext>({ root: {}, issues: [], suggestions: {} });

export interface FieldProps {
  readonly name: string;
  readonly path: string;
  readonly schema: JsonSchema;
  readonly required: boolean;
  readonly value: unknown;
  readonly onChange: (value: unknown) => void;
}
