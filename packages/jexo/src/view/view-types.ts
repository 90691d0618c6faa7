/** What a tool takes and gives, for typing a page by its server. `typeof hiveWeight` of a `tool(…)` will do. */
export interface ViewTool<I = unknown, O = unknown> {
  /** Only its types are used. */
  readonly types?: { readonly input: I; readonly output: O };
}
/** The input of a tool. */
export type InputOf<T> = T extends ViewTool<infer I, unknown> ? I : Record<string, unknown>;
/** The structured answer of a tool. */
export type OutputOf<T> = T extends ViewTool<unknown, infer O> ? O : unknown;

/** A tool’s answer, as a host passes it on. */
export interface ViewResult<O = unknown> {
  /** What the tool promises by its output schema. */
  readonly structuredContent?: O;
  /** What the model reads. */
  readonly content: readonly { readonly type: string; readonly text?: string }[];
  /** True when the tool refused, or failed. */
  readonly isError?: boolean;
  /** What is for the page alone. */
  readonly _meta?: Readonly<Record<string, unknown>>;
}

/** How a page is shown. */
export type DisplayMode = 'inline' | 'fullscreen' | 'pip';

/** What a host says of itself and of the place it gives the page. Everything may be missing. */
export interface HostContext {
  /** The call that made this page. */
  readonly toolInfo?: { readonly id?: string | number; readonly tool?: { readonly name: string } };
  /** Light or dark. */
  readonly theme?: 'light' | 'dark';
  /** Variables and fonts of the host. */
  readonly styles?: { readonly variables?: Readonly<Record<string, string>>; readonly css?: { readonly fonts?: string } };
  /** How the page is shown now. */
  readonly displayMode?: DisplayMode;
  /** How it could be shown. */
  readonly availableDisplayModes?: readonly DisplayMode[];
  /** CSS pixels; a fixed size, or a bound. */
  readonly containerDimensions?: {
    readonly width?: number;
    readonly maxWidth?: number;
    readonly height?: number;
    readonly maxHeight?: number;
  };
  /** BCP 47. */
  readonly locale?: string;
  /** IANA. */
  readonly timeZone?: string;
  /** What the host calls itself, as browsers do. */
  readonly userAgent?: string;
  /** What it runs on. */
  readonly platform?: 'web' | 'desktop' | 'mobile';
  /** How people point at things. */
  readonly deviceCapabilities?: { readonly touch?: boolean; readonly hover?: boolean };
  /** CSS pixels at the edges that may be covered. */
  readonly safeAreaInsets?: { readonly top: number; readonly right: number; readonly bottom: number; readonly left: number };
}

/** What a host lets the page do. */
export interface HostCapabilities {
  /** It opens addresses. */
  readonly openLinks?: object;
  /** It calls tools of the server. */
  readonly serverTools?: object;
  /** It reads resources of the server. */
  readonly serverResources?: object;
  /** It keeps log messages. */
  readonly logging?: object;
  /** It takes messages for the conversation. */
  readonly message?: object;
  /** It takes what the model should know. */
  readonly updateModelContext?: object;
  /** The policy and the permissions that hold here. */
  readonly sandbox?: object;
}

/** How severe a log message is. */
export type ViewLogLevel = 'debug' | 'info' | 'notice' | 'warning' | 'error' | 'critical' | 'alert' | 'emergency';

/** How `openView` begins. */
export interface ViewOptions {
  /** What the page calls itself. Default: the title of the document. */
  readonly name?: string;
  /** Default: `1`. */
  readonly version?: string;
  /** How it can be shown. Default: `inline` alone. */
  readonly displayModes?: readonly DisplayMode[];
  /** False leaves reporting the size to `reportSize`. Default true: it is reported whenever it changes. */
  readonly autoSize?: boolean;
  /** False leaves the document as it is. Default true: theme, variables and fonts of the host are set on it. */
  readonly autoTheme?: boolean;
  /** Milliseconds to wait for the host. Default 10,000. */
  readonly timeoutMs?: number;
}

/** A host refused, did not answer, or is not there. */
export class ViewError extends Error {
  /** Tells it apart from other errors. */
  override readonly name = 'ViewError';
  constructor(
    message: string,
    /** The code of a JSON-RPC error; undefined where there was none. */
    readonly code?: number,
  ) {
    super(message);
  }
}

/** The host, as the page sees it. `T` is the tool it belongs to, `Tools` those it calls, by name. */
export interface View<T = unknown, Tools extends Record<string, unknown> = Record<string, unknown>> {
  /** What the tool was called with; undefined until it is known. */
  readonly input: InputOf<T> | undefined;
  /** Its answer; undefined until it is there. */
  readonly result: ViewResult<OutputOf<T>> | undefined;
  /** What the host says of the place. */
  readonly context: HostContext;
  /** What the host calls itself. */
  readonly host: { readonly name: string; readonly version: string };
  /** What the host lets the page do. */
  readonly can: HostCapabilities;
  /** Called with the input, at once when it is there already. Returns how to stop, as all of these do. */
  onInput(hear: (input: InputOf<T>) => void): () => void;
  /** Called while the model is still writing the input: for previews alone. */
  onPartialInput(hear: (input: Partial<InputOf<T>>) => void): () => void;
  /** Called with the answer, at once when it is there already. */
  onResult(hear: (result: ViewResult<OutputOf<T>>) => void): () => void;
  /** Called when the call was cancelled. */
  onCancelled(hear: (reason: string | undefined) => void): () => void;
  /** Called with the whole context, now and after each change. */
  onContext(hear: (context: HostContext) => void): () => void;
  /** Called before the host takes the page away, which waits a moment for it. */
  onTeardown(hear: (reason: string | undefined) => void | Promise<void>): () => void;
  /**
   * Calls a tool of the same server, without the model.
   * @throws ViewError when the host or the server refuses; an answer with `isError` is returned
   */
  call<N extends keyof Tools & string>(
    tool: N,
    input?: InputOf<Tools[N]>,
    options?: { readonly signal?: AbortSignal },
  ): Promise<ViewResult<OutputOf<Tools[N]>>>;
  /** Reads a resource of the same server. @throws ViewError */
  read(
    uri: string,
  ): Promise<readonly { readonly uri: string; readonly mimeType?: string; readonly text?: string; readonly blob?: string }[]>;
  /**
   * Puts a message into the conversation, as if the person had written it. A model answers what it reads: say what has happened with `done`, so that it is not
   * taken for a request. @throws ViewError when the host or the person refuses
   */
  say(text: string): Promise<void>;
  /** What the model should know from now on, without being asked anything. It replaces what was there before. @throws ViewError */
  remember(text: string, structured?: Readonly<Record<string, unknown>>): Promise<void>;
  /** Asks the host to open a page in a browser. @throws ViewError when it refuses */
  openLink(url: string): Promise<void>;
  /** Asks for another way to be shown; gives the one that holds afterwards. */
  requestDisplayMode(mode: DisplayMode): Promise<DisplayMode>;
  /** Tells the host how large the page is, in CSS pixels. */
  reportSize(size?: { readonly width?: number; readonly height?: number }): void;
  /** Writes into the host’s log. */
  log(level: ViewLogLevel, data: unknown): void;
  /** Asks the host to take the page away. */
  leave(): void;
}
