/**
 * Every error Jexo raises itself, in one place. A code is stable: scripts may rely on it.
 *
 * Each entry gives the exit code the command line uses and the step a person can take next.
 * Exit codes: 1 the call or check failed, 2 the command was used wrongly, 3 the target could not be read or reached.
 */
export const catalogue = {
  JEXO_USAGE: { exit: 2, next: 'Run the command with --help to see its options and examples.' },
  JEXO_TARGET_MISSING: { exit: 3, next: 'Check the path. It is taken from the folder you are in.' },
  JEXO_TARGET_UNKNOWN: {
    exit: 3,
    next: 'Give a module (.ts, .js), an OpenAPI document (.yaml, .json), a database (.sqlite, postgres://…), a folder (./handbook), the URL of a running server, or -- followed by a command that starts one.',
  },
  JEXO_SYNTAX: { exit: 3, next: 'Fix the line named above, then run the command again.' },
  JEXO_MODULE_FAILED: { exit: 3, next: 'The module threw while it was loading. Fix it, then run the command again.' },
  JEXO_NOTHING_OFFERED: { exit: 3, next: 'Export at least one function, or a server made with defineServer.' },
  JEXO_TYPE_UNREADABLE: { exit: 3, next: 'Write a schema for it with tool(), omit it, or wrap it in a function of simpler types.' },
  JEXO_CHOICE: { exit: 2, next: 'List what there is with: jexo list <target>' },
  JEXO_NAME_CLASH: { exit: 3, next: 'Rename one of the two, or omit it.' },
  JEXO_SCHEMA_INVALID: { exit: 3, next: 'Give a JSON Schema object, or a schema library that offers JSON Schema.' },
  JEXO_DEFINITION: { exit: 3, next: 'Fix the definition of the server.' },
  JEXO_TOOL_UNKNOWN: { exit: 2, next: 'List the tools with: jexo list <target>' },
  JEXO_INPUT_INVALID: { exit: 2, next: 'Fix the fields named above and call again.' },
  JEXO_OUTPUT_INVALID: { exit: 1, next: 'Fix the tool or its output schema: the answer must fit what was promised.' },
  JEXO_PORT_IN_USE: { exit: 3, next: 'Choose another port, or stop the program that holds it.' },
  JEXO_OPEN: { exit: 2, next: 'Listen on 127.0.0.1, or say that it is meant: --open at the terminal, open: true in code.' },
  JEXO_ADDRESS: { exit: 3, next: 'Choose an address of this machine; 127.0.0.1 is the usual one.' },
  JEXO_CONNECT: { exit: 3, next: 'Check that the server is running and that the address is right.' },
  JEXO_COMMAND_MISSING: { exit: 3, next: 'Check the spelling of the command, or give its full path.' },
  JEXO_SERVER_EXITED: { exit: 3, next: 'Run the command by itself to see why it ends.' },
  JEXO_NOT_PROTOCOL: { exit: 3, next: 'Only protocol messages may be written to stdout. Send everything else to stderr.' },
  JEXO_HTTP_STATUS: { exit: 3, next: 'Check the address and the path; most servers answer at /mcp.' },
  JEXO_SESSION_LOST: { exit: 3, next: 'Connect again: the server has ended this session.' },
  JEXO_TOO_LARGE: { exit: 1, next: 'Send less at once, or raise the limit where the server is served.' },
  JEXO_REVISION: { exit: 3, next: 'The two sides share no revision of the protocol; update the older one.' },
  JEXO_CLOSED: { exit: 1, next: 'Connect again before you send more.' },
  JEXO_TIMEOUT: { exit: 1, next: 'Raise the timeout, or find out what the other side is waiting for.' },
  JEXO_CANCELLED: { exit: 1, next: 'Nothing: the call was stopped on request.' },
  JEXO_REMOTE: { exit: 1, next: 'The other side answered with this error; its message says what to change.' },
  JEXO_NOT_SUPPORTED: { exit: 1, next: 'Use a peer that offers this, or do without it.' },
  JEXO_NOT_ACCEPTED: { exit: 1, next: 'Go on without the answer: the person did not give one.' },
  JEXO_LOCKED: { exit: 3, next: 'Open the address that jexo inspect printed.' },
  JEXO_PACKAGE_MISSING: { exit: 3, next: 'Install the package named above.' },
  JEXO_INSTALLATION: { exit: 3, next: 'Reinstall jexo.' },
  JEXO_SETTING: { exit: 3, next: 'Set the variable named above where the server is started.' },
  JEXO_DOCUMENT: { exit: 3, next: 'Fix the document, or give another one.' },
  JEXO_SQL: { exit: 1, next: 'Correct the statement, and send it again.' },
  JEXO_DATABASE: { exit: 1, next: 'Check that the database can be reached and does what it is asked.' },
  JEXO_REST: { exit: 1, next: 'Read what the API says, and call again as it asks.' },
  JEXO_HOST_FILE: { exit: 3, next: 'Check the path of the configuration, and that it can be read and written.' },
  JEXO_SHEET: { exit: 2, next: 'Fix the lines named above. The schema shipped with the package lets editors complete and check sheets.' },
  JEXO_MODEL: { exit: 3, next: 'Check the model service: its address, the name of the model, and the key.' },
  JEXO_MEMORY: { exit: 3, next: 'Check the path of the file, and that it can be read and written.' },
  JEXO_APPROVALS: { exit: 3, next: 'Fix the file named above, or remove it: then everything is asked for again.' },
  JEXO_TOO_MANY: { exit: 1, next: 'Make fewer calls at once, or wait a moment.' },
  JEXO_UNAVAILABLE: { exit: 1, next: 'Try again later.' },
  JEXO_AUDIT: { exit: 1, next: 'Check that the file can be written, and that nobody has changed it.' },
  JEXO_KEYS: { exit: 3, next: 'Check the file of keys: its path, that it can be read, and what it holds.' },
  JEXO_STORE: { exit: 3, next: 'Check the address of the store, and that it can be reached from here. Try again later.' },
  JEXO_SIGN_IN: { exit: 3, next: 'Check the addresses of the authorization server and of this resource, and that they answer.' },
  JEXO_SWITCHES: { exit: 3, next: 'It is JSON or YAML: { "only": ["tag:scales"], "except": ["move_hive"] }' },
  JEXO_TLS: { exit: 3, next: 'Check both files: PEM, the key without a passphrase, and that they belong together.' },
  JEXO_SECRET: { exit: 3, next: "Read it from the environment where the server runs: env('NAME') in code, ${NAME} in a plan." },
  JEXO_PACK: { exit: 3, next: 'Fix what is named above, then pack again.' },
} as const;

/** The codes of all errors that Jexo raises. */
export type JexoErrorCode = keyof typeof catalogue;

/** Where an error happened, and what else is known of it. */
export interface JexoErrorDetails {
  /** Where it happened: a file with its line, a field, a URL. */
  readonly where?: string;
  /** What to do next, when it differs from the catalogue's own advice. */
  readonly next?: string;
  /** The error behind it. */
  readonly cause?: unknown;
  /** Machine-readable detail, shown by `--json`. */
  readonly data?: unknown;
}

/**
 * An error for people: what happened, where, and what to do next, under a stable code.
 *
 * @example
 * try { await connect('hives.ts') } catch (error) {
 *   if (error instanceof JexoError) console.error(error.code, error.message, error.next);
 * }
 */
export class JexoError extends Error {
  /** Always `JexoError`. */
  override readonly name = 'JexoError';
  /** A stable code: scripts may rely on it. */
  readonly code: JexoErrorCode;
  /** Where it happened: a file with its line, a field, a URL. */
  readonly where: string | undefined;
  /** What to do next, in a sentence. */
  readonly next: string;
  /** Machine-readable detail. */
  readonly data: unknown;

  constructor(code: JexoErrorCode, message: string, details: JexoErrorDetails = {}) {
    super(message, details.cause === undefined ? undefined : { cause: details.cause });
    this.code = code;
    this.where = details.where;
    this.next = details.next ?? catalogue[code].next;
    this.data = details.data;
  }

  /** As `--json` prints it. */
  toJSON(): object {
    return { code: this.code, message: this.message, where: this.where, next: this.next, data: this.data };
  }
}

/** Recognises a JexoError of any copy of this package. */
export function isJexoError(value: unknown): value is JexoError {
  return value instanceof Error && typeof (value as { code?: unknown }).code === 'string' && (value as JexoError).code in catalogue;
}

export function messageOf(error: unknown): string {
  return error instanceof Error ? error.message : String(error);
}
