import type { JsonSchema } from '../../protocol/types.js';

/** Published as `calls.schema.json` and `requests.schema.json`, for editors; the same schemas check what is loaded. */

const target: JsonSchema = {
  description:
    'What is served: a module or package (from where the sheet lies), a URL, or a command as a list. One given at the terminal wins.',
  anyOf: [
    { type: 'string', minLength: 1 },
    { type: 'array', items: { type: 'string' }, minItems: 1 },
  ],
};

const texts = (description: string): JsonSchema => ({
  description,
  anyOf: [{ type: 'string' }, { type: 'array', items: { type: 'string' }, minItems: 1 }],
});

const mask: JsonSchema = {
  description:
    'What is not compared: `times` (dates with a time), `ids` (UUIDs and long hexadecimal numbers), a pattern as `/\\d+ ms/`, or a path as `steps[].took`.',
  type: 'array',
  items: { type: 'string', minLength: 1 },
};

const reply: JsonSchema = {
  anyOf: [
    { enum: ['accept', 'decline', 'cancel'] },
    {
      type: 'object',
      additionalProperties: false,
      minProperties: 1,
      properties: {
        to: { type: 'string', description: 'Text or pattern the question must have.' },
        with: { type: 'object', description: 'The fields of the form, filled in.' },
        say: { type: 'string', description: 'What the model says, when the server asks for one.' },
        action: { enum: ['accept', 'decline', 'cancel'] },
      },
    },
  ],
};

export const callSheetSchema: JsonSchema = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'Call sheet',
  description: 'Calls in order, with what each must answer. Replayed by: jexo replay <sheet>',
  type: 'object',
  required: ['calls'],
  additionalProperties: false,
  properties: {
    target,
    masks: mask,
    calls: { type: 'array', items: { $ref: '#/$defs/call' } },
  },
  $defs: {
    call: {
      type: 'object',
      additionalProperties: false,
      properties: {
        name: { type: 'string', minLength: 1, description: 'What this call shows. Unique within the sheet.' },
        call: { type: 'string', minLength: 1, description: 'The tool to call.' },
        read: { type: 'string', minLength: 1, description: 'The URI of the resource to read.' },
        render: { type: 'string', minLength: 1, description: 'The prompt to render.' },
        with: {
          type: 'object',
          description: 'The input. ${name} stands for a captured value, ${env.NAME} for a variable of the environment.',
        },
        must: { $ref: '#/$defs/must' },
        replies: {
          type: 'array',
          items: { $ref: '#/$defs/reply' },
          description: 'What is answered to each question of the server, in order.',
        },
        capture: {
          type: 'object',
          propertyNames: { pattern: '^[A-Za-z_]\\w*$', not: { const: 'env' } },
          additionalProperties: { type: 'string' },
          description: 'Values of the answer to use in later calls: a name for each, and its path.',
        },
        masks: mask,
        after: texts('Calls that --only runs before this one, by name.'),
        seconds: { type: 'number', exclusiveMinimum: 0, description: 'How long to wait for the answer. Default 60.' },
      },
      oneOf: [{ required: ['call'] }, { required: ['read'] }, { required: ['render'] }],
    },
    must: {
      type: 'object',
      additionalProperties: false,
      minProperties: 1,
      description: 'What the answer must be. Without it, the call must not fail.',
      properties: {
        be: { description: 'Exactly this.' },
        have: { description: 'At least this: further fields are allowed, in lists too.' },
        say: texts('Text in what a model reads, or a pattern as /\\d+ kg/.'),
        fit: { type: 'object', description: 'A JSON Schema the answer must fit.' },
        at: { type: 'object', minProperties: 1, description: 'Paths, as apiaries[0].gain, each with the exact value there.' },
        fail: {
          anyOf: [{ const: true }, { type: 'string' }, { type: 'array', items: { type: 'string' }, minItems: 1 }],
          description: 'It must fail; with a text or a pattern, in these words.',
        },
        maxMs: { type: 'number', exclusiveMinimum: 0, description: 'Milliseconds it may take.' },
      },
    },
    reply,
  },
};

export const requestSheetSchema: JsonSchema = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'Request sheet',
  description: 'Requests in plain words, each with the tool it should lead to. Rehearsed by: jexo rehearse <target> <sheet>',
  type: 'object',
  required: ['requests'],
  additionalProperties: false,
  properties: {
    target,
    requests: {
      type: 'array',
      items: {
        type: 'object',
        required: ['say'],
        oneOf: [{ required: ['tool'] }, { required: ['steps'] }],
        additionalProperties: false,
        properties: {
          say: {
            description: 'The request, as a person would say it. With steps it may be several, said one after the other.',
            anyOf: [
              { type: 'string', minLength: 1 },
              { type: 'array', items: { type: 'string', minLength: 1 }, minItems: 1 },
            ],
          },
          steps: {
            description: 'The calls a whole conversation must make, in order. They are made: no other tool is called.',
            type: 'array',
            items: {
              type: 'object',
              required: ['tool'],
              additionalProperties: false,
              properties: {
                tool: texts('The tool; several when each is right.'),
                with: { type: 'object', description: 'Arguments it should be called with; others are allowed.' },
              },
            },
          },
          answer: texts('With steps: texts the last answer must hold, or patterns as /\\d+ kg/.'),
          replies: {
            type: 'array',
            items: { $ref: '#/$defs/reply' },
            description: 'With steps: what is answered to each question of the server, in order.',
          },
          tool: texts('The tool it should lead to; several when each is right; none when no tool should be chosen.'),
          with: { type: 'object', description: 'Arguments the tool should be called with; others are allowed.' },
        },
      },
    },
  },
  $defs: { reply },
};

/** Questions, and the pages of a folder that answer them. */
export const questionSheetSchema: JsonSchema = {
  $schema: 'https://json-schema.org/draft/2020-12/schema',
  title: 'Question sheet',
  type: 'object',
  properties: {
    target: {
      description: 'the folder or server, from where this file lies',
      anyOf: [{ type: 'string' }, { type: 'array', items: { type: 'string' } }],
    },
    questions: {
      type: 'array',
      items: {
        type: 'object',
        properties: {
          ask: { type: 'string', minLength: 1, description: 'a question, as a person asks it' },
          pages: {
            description: 'what answers it: paths in the folder, with # for a section; any of them is right',
            anyOf: [{ type: 'string' }, { type: 'array', items: { type: 'string' }, minItems: 1 }],
          },
        },
        required: ['ask', 'pages'],
        additionalProperties: false,
      },
    },
  },
  required: ['questions'],
  additionalProperties: false,
};
