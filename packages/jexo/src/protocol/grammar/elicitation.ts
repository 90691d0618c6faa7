import { isRecord } from '../is-record.js';
import { boolean, byMember, either, integer, list, mapOf, number, oneOf, opt, shape, text, type Check } from '../check.js';
import { uri, when, type Base } from './base.js';

/** What a server asks of the person at a client. */
export function elicitationOf(base: Base) {
  const { r4, request, asTask } = base;
  const named = { title: opt(text), description: opt(text) };
  const choice = shape({ const: text, title: text });
  const stringField = (value: Record<string, unknown>): Check => {
    const fallback = when(r4, { default: opt(text) });
    if (r4 && 'oneOf' in value && !('enumNames' in value)) return shape({ ...named, oneOf: list(choice), ...fallback });
    if ('enum' in value) return shape({ ...named, enum: list(text), enumNames: opt(list(text)), ...fallback });
    return shape({
      ...named,
      minLength: opt(integer),
      maxLength: opt(integer),
      format: opt(oneOf('email', 'uri', 'date', 'date-time')),
      ...fallback,
    });
  };
  const numberField = shape({ ...named, minimum: opt(number), maximum: opt(number), ...when(r4, { default: opt(number) }) });
  const listField = either(({ items }) =>
    shape({
      ...named,
      minItems: opt(integer),
      maxItems: opt(integer),
      items: isRecord(items) && 'anyOf' in items ? shape({ anyOf: list(choice) }) : shape({ type: oneOf('string'), enum: list(text) }),
      default: opt(list(text)),
    }),
  );
  const formField = byMember('type', {
    string: either(stringField),
    number: numberField,
    integer: numberField,
    boolean: shape({ ...named, default: opt(boolean) }),
    ...(r4 && { array: listField }),
  });
  const form = shape({
    ...request,
    ...asTask,
    message: text,
    requestedSchema: shape({
      type: oneOf('object'),
      properties: mapOf(formField),
      required: opt(list(text)),
      ...when(r4, { $schema: opt(text) }),
    }),
  });
  const elicitParams = !r4
    ? form
    : either(({ mode }) =>
        mode === undefined
          ? form
          : byMember('mode', { form, url: shape({ ...request, ...asTask, message: text, elicitationId: text, url: uri }) }),
      );
  const primitive: Check = (value, path) =>
    ['string', 'number', 'boolean'].includes(typeof value) || (r4 && list(text)(value, path) === undefined)
      ? undefined
      : `${path} must be a string, a number, ${r4 ? 'a list of strings, ' : ''}true or false`;
  return { elicitParams, primitive };
}
export type Elicitation = ReturnType<typeof elicitationOf>;
