import { serveSchema } from './serve-settings.js';
import type { JsonSchema } from '../protocol/types.js';
import { choiceOptions, entryKinds } from './entry-kinds.js';

const inputSchema: JsonSchema = { type: 'object', description: 'JSON Schema of the input: an object.' };
const step: JsonSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['call'],
  properties: {
    call: { type: 'string', minLength: 1, description: 'The name of a tool of this plan.' },
    with: { type: 'object', description: 'Its input; {{name}} stands for an input of this tool or the answer of an earlier step.' },
    as: { type: 'string', pattern: '^[A-Za-z_]\\w*$', description: 'How later steps know its answer. Default: the tool’s name.' },
  },
};

/** What stands under `offers`, by the key that says what an entry is. */
const inPlace: Readonly<Record<string, JsonSchema>> = {
  tool: {
    description: 'A tool made of calls of others.',
    type: 'object',
    additionalProperties: false,
    required: ['tool', 'description'],
    properties: {
      tool: { type: 'string', minLength: 1, description: 'Its name.' },
      title: { type: 'string' },
      description: { type: 'string', minLength: 1, description: 'What it does and when to use it.' },
      input: inputSchema,
      annotations: { type: 'object' },
      call: step.properties!.call as JsonSchema,
      with: step.properties!.with as JsonSchema,
      steps: { type: 'array', items: step, minItems: 1, description: 'Several calls, one after the other.' },
      answer: { description: 'What it answers with, with {{path}}. Default: the answer of the last call.' },
    },
  },
  prompt: {
    description: 'A prompt: texts with {{argument}}.',
    type: 'object',
    additionalProperties: false,
    required: ['prompt'],
    properties: {
      prompt: { type: 'string', minLength: 1, description: 'Its name.' },
      title: { type: 'string' },
      description: { type: 'string' },
      arguments: {
        type: 'object',
        additionalProperties: {
          type: ['object', 'null'],
          additionalProperties: false,
          properties: {
            description: { type: 'string' },
            required: { type: 'boolean', description: 'Default true.' },
            values: { type: 'array', items: { type: 'string' }, description: 'The values it may have.' },
          },
        },
      },
      text: { type: 'string', description: 'The one message of the user.' },
      messages: {
        type: 'array',
        items: {
          type: 'object',
          additionalProperties: false,
          minProperties: 1,
          maxProperties: 1,
          properties: { user: { type: 'string' }, assistant: { type: 'string' } },
        },
      },
    },
  },
  view: {
    description: 'A page that hosts show with the answers of tools.',
    type: 'object',
    additionalProperties: false,
    required: ['view', 'of'],
    properties: {
      view: { type: 'string', minLength: 1, description: 'Its name: hive-weight is listed as ui://view/hive-weight.' },
      of: { type: 'array', items: { type: 'string' }, minItems: 1, description: 'Names of the tools whose answers it shows.' },
      title: { type: 'string' },
      description: { type: 'string' },
      file: { type: 'string', description: 'The page, by a path from the plan’s folder on.' },
      folder: { type: 'string', description: 'The folder of an app, which is made into one page with Vite.' },
      csp: {
        type: 'object',
        additionalProperties: false,
        description: 'Origins that it may reach.',
        properties: Object.fromEntries(
          ['connectDomains', 'resourceDomains', 'frameDomains', 'baseUriDomains'].map((name) => [
            name,
            { type: 'array', items: { type: 'string' } },
          ]),
        ),
      },
      border: { type: 'boolean', description: 'Whether it wants a border around it.' },
    },
  },
  resource: {
    description: 'A resource with a fixed text, or a file.',
    type: 'object',
    additionalProperties: false,
    required: ['resource'],
    properties: {
      resource: { type: 'string', minLength: 1, description: 'Its URI.' },
      name: { type: 'string' },
      title: { type: 'string' },
      description: { type: 'string' },
      mimeType: { type: 'string' },
      text: { type: 'string' },
      file: { type: 'string', description: 'A path from the plan’s folder on.' },
    },
  },
};

/** The keys that each kind of entry takes. */
export const entryKeys: Readonly<Record<string, readonly string[]>> = Object.fromEntries([
  ...Object.entries(entryKinds).map(
    ([key, { options }]) => [key, [key, ...Object.keys(options), ...Object.keys(choiceOptions), 'hidden']] as const,
  ),
  ...Object.entries(inPlace).map(([key, { properties }]) => [key, Object.keys(properties!)] as const),
]);

const sources = Object.fromEntries(
  Object.entries(entryKinds).map(([key, { about, place, options }]): [string, JsonSchema] => [
    key,
    {
      description: about,
      type: 'object',
      additionalProperties: false,
      required: [key],
      properties: {
        [key]: place,
        ...Object.fromEntries(Object.entries(options).map(([option, { schema }]) => [option, schema])),
        ...Object.fromEntries(Object.entries(choiceOptions).filter(([option]) => !(option in options))),
        ...(!('hidden' in options) && { hidden: { type: 'boolean', description: 'Offers it only to tools of this plan.' } }),
      },
    },
  ]),
);

/** The schema of one entry. */
export const entrySchemas: Readonly<Record<string, JsonSchema>> = { ...sources, ...inPlace };

const text: JsonSchema = { type: 'string', minLength: 1 };
const duration: JsonSchema = { type: ['string', 'integer'], description: '30 s, 5 min, or milliseconds.' };
const count: JsonSchema = { type: 'integer', minimum: 1 };
const selection = {
  only: { type: 'array', items: { type: 'string' }, description: 'Only what one of these names: a name, list_*, or tag:scales.' },
  except: { type: 'array', items: { type: 'string' }, description: 'All but what these name.' },
} satisfies Record<string, JsonSchema>;
const options = (properties: Readonly<Record<string, JsonSchema>>, required: readonly string[] = []): JsonSchema => ({
  type: ['object', 'null'],
  additionalProperties: false,
  properties: { ...properties, ...selection },
  ...(required.length > 0 && { required: [...required] }),
});

/** What runs around every call, by its name. */
export const layerSchemas: Readonly<Record<string, JsonSchema>> = {
  timeout: {
    description: 'Ends a call that takes too long.',
    anyOf: [duration, { ...options({ after: duration }, ['after']), type: 'object' }],
  },
  rateLimit: {
    ...options({ calls: count, per: duration, by: { type: 'string', enum: ['caller', 'offer', 'caller and offer'] } }, ['calls']),
    type: 'object',
    description: 'Refuses calls beyond a number in a span.',
  },
  cache: {
    ...options({ ttl: duration, entries: count, shared: { type: 'boolean' } }),
    description: 'Keeps the answers of tools that only read.',
  },
  retry: {
    ...options({ times: { type: 'integer', minimum: 0 }, afterMs: count }),
    description: 'Runs a call again that failed by an error that may pass.',
  },
  concurrency: {
    ...options({ calls: count, queue: { type: 'integer', minimum: 0 } }, ['calls']),
    type: 'object',
    description: 'Lets so many calls run at once.',
  },
  redact: {
    ...options({
      fields: { type: 'array', items: text },
      patterns: { type: 'array', items: { type: 'string', format: 'regex' } },
      mask: { type: 'string' },
    }),
    type: 'object',
    description: 'Takes values out of answers.',
  },
  audit: {
    description: 'Writes a line for every call.',
    anyOf: [
      text,
      { type: 'object', additionalProperties: false, properties: { file: text, inputs: { type: 'boolean' } }, required: ['file'] },
    ],
  },
  circuitBreaker: { ...options({ failures: count, reset: duration }), description: 'Stops calling what keeps failing.' },
};

const middleware: JsonSchema = {
  type: 'array',
  description: 'What runs around every call, the first outermost.',
  items: { type: 'object', minProperties: 1, maxProperties: 1, additionalProperties: false, properties: layerSchemas as never },
};

/** The keys at the root of a plan. */
export const planKeys = ['name', 'title', 'version', 'instructions', 'include', 'offers', 'middleware', 'serve'] as const;

/** Published as `plan.schema.json`, for editors; the same schema checks what is loaded. */
export const planSchema: JsonSchema = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'Plan file',
  description: 'A server without code. Served by: jexo serve <file>.jexo.yaml',
  type: 'object',
  additionalProperties: false,
  properties: {
    name: { type: 'string', pattern: '^[\\w.-]+$', description: 'What the server calls itself. Default: the file’s name.' },
    title: { type: 'string' },
    version: { type: 'string' },
    instructions: { type: 'string', description: 'What the server is for, for the model.' },
    include: {
      description: 'Other plan files whose offers come first.',
      anyOf: [{ type: 'string' }, { type: 'array', items: { type: 'string' } }],
    },
    offers: { type: 'array', items: { anyOf: Object.keys(entrySchemas).map((key) => ({ $ref: `#/$defs/${key}` })) } },
    middleware,
    serve: serveSchema,
  },
  $defs: entrySchemas as never,
};
