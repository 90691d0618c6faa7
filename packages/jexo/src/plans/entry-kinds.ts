import type { JsonSchema } from '../protocol/types.js';

/** How an option of an entry is read beside its schema. */
export interface EntryOption {
  readonly schema: JsonSchema;
  /** A path from the plan's folder on. */
  readonly isPath?: boolean;
  /** `${NAME}` is read from the environment when it is needed, not when the plan is. */
  readonly isSetting?: boolean;
}

/** What an entry of `offers` can be made of. */
export interface EntryKind {
  readonly about: string;
  /** The schema of what stands behind its key. */
  readonly place: JsonSchema;
  readonly options: Readonly<Record<string, EntryOption>>;
  /** True when its options take a choice themselves. */
  readonly choosesItself?: boolean;
}

const text = (description: string): JsonSchema => ({ type: 'string', minLength: 1, description });
const texts = (description: string): JsonSchema => ({ type: 'array', items: { type: 'string' }, description });
const bool = (description: string): JsonSchema => ({ type: 'boolean', description });
const count = (description: string): JsonSchema => ({ type: 'integer', minimum: 0, description });
const map = (description: string, values: JsonSchema = { type: 'string' }): JsonSchema => ({
  type: 'object',
  additionalProperties: values,
  description,
});
const plain = (schema: JsonSchema): EntryOption => ({ schema });
const path = (schema: JsonSchema): EntryOption => ({ schema, isPath: true });
const setting = (schema: JsonSchema): EntryOption => ({ schema, isSetting: true });

const auth: JsonSchema = {
  description:
    'How to prove who we are: { bearer: ${TOKEN} }, { basic: { user, password } }, { apiKey: ${KEY} } { clientCredentials: { id, secret } } or { tokenExchange: { id, secret, audience } }.',
  type: 'object',
  minProperties: 1,
  maxProperties: 1,
  additionalProperties: false,
  properties: {
    bearer: { type: 'string' },
    apiKey: { type: 'string' },
    basic: {
      type: 'object',
      properties: { user: { type: 'string' }, password: { type: 'string' } },
      required: ['user', 'password'],
      additionalProperties: false,
    },
    clientCredentials: {
      type: 'object',
      properties: { id: { type: 'string' }, secret: { type: 'string' }, tokenUrl: { type: 'string' }, scope: { type: 'string' } },
      required: ['id', 'secret'],
      additionalProperties: false,
    },
    tokenExchange: {
      description: 'The caller’s token is exchanged for one of the service’s: the call is made in the caller’s name.',
      type: 'object',
      properties: {
        id: { type: 'string' },
        secret: { type: 'string' },
        tokenUrl: { type: 'string' },
        audience: { type: 'string' },
        scope: { type: 'string' },
      },
      required: ['id', 'secret'],
      additionalProperties: false,
    },
  },
};

const upstream = {
  auth: setting(auth),
  headers: setting(map('Headers sent with every request.')),
  timeoutMs: plain(count('Milliseconds one attempt may take.')),
  maxRetries: plain(count('Times a request that may be repeated is sent again.')),
  concurrency: plain(count('Requests at once.')),
  answerCharacters: plain(count('Characters an answer may have.')),
  hosts: plain(texts('Other hosts that redirects may lead to.')),
  pages: plain(count('Pages a caller may have followed at once.')),
};
const live = {
  about: plain(text('What the values are about, in a sentence.')),
  prefix: plain(text('Stands before the names of the tools.')),
  points: plain(count('Points of history kept of each value.')),
  maxValues: plain(count('Values at most.')),
  everyMs: plain(count('Milliseconds between two notifications of one value.')),
  confirm: plain(bool('Asks a person before a value is written.')),
};
const name = plain(text('Shown beside the offers, and part of some names.'));
const objects = (description: string): JsonSchema => map(description, { type: 'object' });

/** Every kind of entry, by the key that says what it is. */
export const entryKinds: Readonly<Record<string, EntryKind>> = {
  functions: {
    about: 'a module: its exported functions as tools, or the server it exports',
    place: text('The module’s path.'),
    options: {},
  },
  rest: {
    about: 'an OpenAPI document: its operations as tools',
    place: text('The document’s path or address.'),
    choosesItself: true,
    options: {
      name,
      baseUrl: setting(text('Where the API is.')),
      ...upstream,
      bodyTypes: plain(map('How a body is sent, by operation.')),
      secrets: plain(map('The variables that secrets are read from, by security scheme.')),
      inputs: plain(objects('Changes of inputs, by operation.input.')),
      resources: plain({ type: ['boolean', 'array'], items: { type: 'string' }, description: 'GET operations offered as resources too.' }),
      as: plain({
        type: 'string',
        enum: ['tools', 'search'],
        description: 'search offers three tools in place of one for each operation.',
      }),
      confirm: plain(texts('Operations a person is asked to confirm.')),
      jmespath: plain(bool('Lets callers choose fields.')),
    },
  },
  endpoints: {
    about: 'endpoints of an API without a document',
    place: { type: 'array', items: { type: 'object' }, minItems: 1, description: 'The endpoints: name, method, path, input, output.' },
    choosesItself: true,
    options: { name, baseUrl: setting(text('Where the API is.')), ...upstream },
  },
  graphql: {
    about: 'a GraphQL service: named operations as tools',
    place: text('The schema’s path, or the service’s address.'),
    choosesItself: true,
    options: {
      name,
      operations: path(text('A folder or file of operations.')),
      endpoint: setting(text('Where the service is.')),
      subscriptions: setting(text('Where subscriptions go.')),
      ...upstream,
      scalars: plain(objects('JSON Schema of custom scalars.')),
      explore: plain({ type: ['boolean', 'object'], description: 'Lets a model run queries of its own.' }),
      persisted: plain({ type: ['boolean', 'object'], description: 'Sends digests in place of texts.' }),
    },
  },
  database: {
    about: 'a database: queries as tools, rows as resources',
    place: text('A file of SQLite, an address, or ${NAME}.'),
    options: {
      name,
      queries: path(text('A folder of .sql files, each a tool.')),
      tables: plain(bool('Offers tables as resources.')),
      query: plain({ type: ['boolean', 'object'], description: 'Offers a tool that answers a SELECT of the model’s own.' }),
      exceptTables: plain(texts('Tables and columns that are not there for callers.')),
      onlyTables: plain(texts('Only these tables and columns.')),
      mask: plain(texts('Columns whose values are shown as ***.')),
      maxRows: plain(count('Rows in one answer.')),
      maxBytes: plain(count('Bytes of the rows of one answer.')),
      timeoutMs: plain(count('Milliseconds a statement may run.')),
      changesMs: plain(count('Milliseconds between two looks for changes.')),
    },
  },
  folder: {
    about: 'a folder: files as resources, its documents searched',
    place: text('The folder’s path.'),
    options: {
      name,
      search: plain(bool('Offers tools that search its documents.')),
      about: plain(text('What the folder is about, in a sentence.')),
      files: plain(texts('Only files that one of these patterns matches.')),
      exceptFiles: plain(texts('All files but these.')),
      index: plain(text('Where the index is kept: memory, disk or a file.')),
      maxFiles: plain(count('Files at most.')),
      maxFileBytes: plain(count('Bytes of one file.')),
    },
  },
  topics: {
    about: 'the topics of an MQTT broker: live values',
    place: text('The broker’s address, with a topic filter as its path.'),
    options: {
      name,
      topics: plain(texts('Topic filters to listen to.')),
      values: plain(objects('What the values are, by topic filter.')),
      publish: plain(objects('Topics that may be published to.')),
      username: setting(text('The name for the broker.')),
      password: setting(text('The password for the broker.')),
      clientId: plain(text('How the client calls itself.')),
      connectMs: plain(count('Milliseconds it may take to connect.')),
      ...live,
    },
  },
  server: {
    about: 'another MCP server: its offers',
    place: {
      anyOf: [
        { type: 'string', minLength: 1 },
        { type: 'array', items: { type: 'string' }, minItems: 1 },
      ],
      description: 'Its address, a command as a list, or hosts.json#name.',
    },
    choosesItself: true,
    options: {
      name,
      inputs: plain(objects('Changes of inputs, by tool.input.')),
      sessions: plain({ type: 'string', enum: ['each', 'shared'], description: 'A connection for each caller’s session, or one for all.' }),
      maxSessions: plain(count('Sessions at once.')),
      lazy: plain(bool('Connects only while it is used.')),
      idleMs: plain(count('Milliseconds without a call after which a connection is closed.')),
      required: plain(bool('Fails when it cannot be reached.')),
      headers: setting(map('Headers sent with every request.')),
      env: plain(map('Variables for a command.')),
    },
  },
};

/** Which of its offers are kept, and what they are called. */
export const choiceOptions: Readonly<Record<string, JsonSchema>> = {
  only: texts('Only what one of these names: a name, list_*, or tag:scales.'),
  except: texts('All but what these name.'),
  rename: map('New names by the old ones.'),
  describe: map('Descriptions in place of the source’s own, by name.'),
  prefix: text('Put before the name of every tool and prompt.'),
  tags: texts('Tags that all of them get.'),
};
