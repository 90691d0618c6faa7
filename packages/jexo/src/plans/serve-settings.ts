import type { JsonSchema } from '../protocol/types.js';

/** How a target wants to be served. Each is an option of `jexo serve`, a variable of the environment and a key of a plan's `serve`. */
export interface ServeDefaults {
  /** The port; true for any free one. Without it, it is served over stdio. */
  readonly http?: number | true;
  readonly host?: string;
  readonly path?: string;
  readonly basePath?: string;
  readonly publicUrl?: string;
  readonly proxies?: readonly string[];
  readonly allowHosts?: readonly string[];
  readonly allowOrigins?: readonly string[];
  readonly tlsCert?: string;
  readonly tlsKey?: string;
  readonly open?: boolean;
  readonly keys?: string;
  readonly issuers?: readonly string[];
  readonly audience?: string;
  readonly scopes?: readonly string[];
  readonly offerScopes?: readonly string[];
  readonly stepUp?: boolean;
  readonly introspect?: string;
  readonly narrowing?: boolean;
  readonly store?: string;
  /** Whether tasks wait for `jexo work`. */
  readonly queueTasks?: boolean;
  readonly switches?: string;
  readonly only?: readonly string[];
  readonly except?: readonly string[];
  readonly log?: string | true;
  readonly logInputs?: boolean;
  readonly metrics?: boolean;
  readonly adminPort?: number;
  readonly adminHost?: string;
  readonly requestsPerMinute?: number;
  readonly grace?: number;
  readonly drain?: number;
  readonly workers?: number;
  readonly compress?: boolean;
  readonly page?: boolean;
  readonly httpSse?: boolean;
}

/** One setting of how a server is served. */
export interface ServeSetting {
  /** Its key in a plan. */
  readonly name: keyof ServeDefaults;
  /** Its option, as `--allow-host <name>`; the variable is named after it: `JEXO_ALLOW_HOST`. */
  readonly flags: string;
  readonly about: string;
  readonly type: 'flag' | 'text' | 'texts' | 'file' | 'port' | 'count' | 'http' | 'log';
  readonly least?: number;
  readonly most?: number;
  /** What holds when nobody says anything. */
  readonly usual?: string | number | boolean;
}

const day = 86_400;

export const serveSettings: readonly ServeSetting[] = [
  { name: 'http', flags: '--http [port]', type: 'http', about: 'serve over HTTP; without a port, that of PORT or any free one' },
  { name: 'host', flags: '--host <address>', type: 'text', usual: '127.0.0.1', about: 'address to listen at' },
  { name: 'path', flags: '--path <path>', type: 'text', usual: '/mcp', about: 'path of the endpoint' },
  {
    name: 'basePath',
    flags: '--base-path <path>',
    type: 'text',
    about: 'put before every path, where a proxy in front hands paths on as they are',
  },
  { name: 'publicUrl', flags: '--public-url <url>', type: 'text', about: 'where clients reach the endpoint: https://apiary.example/mcp' },
  {
    name: 'proxies',
    flags: '--proxy <address>',
    type: 'texts',
    about: 'a proxy in front whose X-Forwarded headers are believed: an address, a network, or loopback; may be repeated',
  },
  {
    name: 'allowOrigins',
    flags: '--allow-origin <origin>',
    type: 'texts',
    about: 'a web page that may call, such as https://desk.example; may be repeated',
  },
  { name: 'allowHosts', flags: '--allow-host <name>', type: 'texts', about: 'a host name this server answers for; may be repeated' },
  { name: 'tlsCert', flags: '--tls-cert <file>', type: 'file', about: 'serve HTTPS with this certificate; renewed ones are taken up' },
  { name: 'tlsKey', flags: '--tls-key <file>', type: 'file', about: 'the certificate’s private key' },
  { name: 'open', flags: '--open', type: 'flag', about: 'listen on an address that other machines can reach, without sign-in' },
  { name: 'keys', flags: '--keys <file>', type: 'file', about: 'over HTTP: let in only callers with a key of this file; see jexo keys' },
  {
    name: 'issuers',
    flags: '--issuer <url>',
    type: 'texts',
    about: 'over HTTP: let in only callers with a token of this authorization server; may be repeated',
  },
  { name: 'audience', flags: '--audience <uri>', type: 'text', about: 'what tokens must be for; that of --public-url if you don’t say' },
  {
    name: 'scopes',
    flags: '--scope <scope>',
    type: 'texts',
    about: 'a scope that clients may ask the authorization server for; may be repeated',
  },
  {
    name: 'offerScopes',
    flags: '--offer-scope <name=scope>',
    type: 'texts',
    about: 'offers that need a scope, as move_*=hives:write or tag:inspectors=hives:inspect; may be repeated',
  },
  {
    name: 'stepUp',
    flags: '--step-up',
    type: 'flag',
    about: 'list offers whose scope a caller lacks, and name the scope when they are used; by default they are hidden',
  },
  {
    name: 'introspect',
    flags: '--introspect <client id>',
    type: 'text',
    about: 'ask the authorization server about opaque tokens, as this client; its secret is read from JEXO_CLIENT_SECRET',
  },
  { name: 'narrowing', flags: '--narrowing', type: 'flag', about: 'over HTTP: let clients ask for fewer offers: /mcp?tags=inspections' },
  {
    name: 'store',
    flags: '--store <url>',
    type: 'text',
    about:
      'over HTTP: keep sessions, streams and tasks in a Redis that several processes share: redis://…, rediss://…?prefix=apiary:, redis+cluster://…, redis+sentinel://…',
  },
  {
    name: 'queueTasks',
    flags: '--queue-tasks',
    type: 'flag',
    about: 'with --store: leave tasks to jexo work, so that this process does none of them',
  },
  {
    name: 'switches',
    flags: '--switches <file>',
    type: 'file',
    about: 'offers that are on, as { "only": […], "except": […] }; changes are taken up without a restart',
  },
  { name: 'log', flags: '--log [file]', type: 'log', about: 'log a line for every call, to stderr or a file' },
  { name: 'logInputs', flags: '--log-inputs', type: 'flag', about: 'log inputs too; they may hold what nobody else should read' },
  {
    name: 'metrics',
    flags: '--metrics',
    type: 'flag',
    about: 'over HTTP: show counts and durations at /metrics, in the format of Prometheus',
  },
  { name: 'adminPort', flags: '--admin-port <port>', type: 'port', about: 'a port of its own for /health, /ready and /metrics' },
  { name: 'adminHost', flags: '--admin-host <address>', type: 'text', usual: '127.0.0.1', about: 'address of the admin port' },
  {
    name: 'requestsPerMinute',
    flags: '--requests-per-minute <n>',
    type: 'count',
    least: 1,
    most: 1_000_000,
    about: 'over HTTP: requests one address may make',
  },
  {
    name: 'grace',
    flags: '--grace <seconds>',
    type: 'count',
    least: 0,
    most: day,
    usual: 10,
    about: 'what calls in flight get when it is asked to stop',
  },
  {
    name: 'drain',
    flags: '--drain <seconds>',
    type: 'count',
    least: 0,
    most: 600,
    usual: 0,
    about: 'how long it still takes connections when it is asked to stop, while /ready says no',
  },
  {
    name: 'workers',
    flags: '--workers <n>',
    type: 'count',
    least: 1,
    most: 128,
    usual: 1,
    about: 'over HTTP: processes that share the port',
  },
  { name: 'compress', flags: '--compress', type: 'flag', about: 'over HTTP: send long answers compressed to those who take gzip' },
  { name: 'page', flags: '--no-page', type: 'flag', usual: true, about: 'over HTTP, don’t serve the page at the root' },
  { name: 'httpSse', flags: '--http-sse', type: 'flag', about: 'over HTTP, also serve clients of 2024-11-05, at /sse' },
];

/** The variable of the environment that says what an option does: `--allow-host` is `JEXO_ALLOW_HOST`. */
export const variableOf = (flags: string): string => `JEXO_${/^--(?:no-)?([\w-]+)/.exec(flags)![1]!.toUpperCase().replaceAll('-', '_')}`;

/** `serve` of a plan. */
export const serveSchema: JsonSchema = {
  type: 'object',
  additionalProperties: false,
  description: 'How it is served, where neither the command line nor the environment says anything else.',
  properties: {
    ...Object.fromEntries(serveSettings.map((setting) => [setting.name, { ...schemaOf(setting), description: sentence(setting.about) }])),
    only: { type: 'array', items: { type: 'string' }, description: 'What is switched on: names, list_*, or tag:scales.' },
    except: { type: 'array', items: { type: 'string' }, description: 'What is switched off.' },
  },
};

function sentence(about: string): string {
  return `${about[0]!.toUpperCase()}${about.slice(1).replace('don’t serve', 'serve')}.`;
}

function schemaOf({ type, least, most }: ServeSetting): JsonSchema {
  switch (type) {
    case 'flag':
      return { type: 'boolean' };
    case 'texts':
      return { type: 'array', items: { type: 'string' } };
    case 'port':
      return { type: 'integer', minimum: 0, maximum: 65535 };
    case 'count':
      return { type: 'integer', ...(least !== undefined && { minimum: least }), ...(most !== undefined && { maximum: most }) };
    case 'http':
      return { anyOf: [{ type: 'integer', minimum: 0, maximum: 65535 }, { const: true }] };
    case 'log':
      return { anyOf: [{ type: 'string', minLength: 1 }, { type: 'boolean' }] };
    default:
      return { type: 'string', minLength: 1 };
  }
}
