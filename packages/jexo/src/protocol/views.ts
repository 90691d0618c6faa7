import { isRecord } from './is-record.js';
import type { ClientCapabilities } from './types.js';

/** The extension by which pages are shown beside answers (Extensions, "Interactive views"). */
export const viewExtension = 'io.modelcontextprotocol/ui';
/** What such a page is listed and read as. */
export const viewMimeType = 'text/html;profile=mcp-app';
/** The version of the messages between a page and its host. */
export const viewProtocolVersion = '2026-01-26';

/** Origins that a view may reach, as `https://tiles.meadow.example` or `https://*.meadow.example`. Nothing else is reachable. */
export interface ViewCsp {
  /** For fetch, XHR and WebSocket. */
  readonly connectDomains?: readonly string[];
  /** For scripts, styles, images, fonts and media. */
  readonly resourceDomains?: readonly string[];
  /** For frames inside the view. */
  readonly frameDomains?: readonly string[];
  /** For `<base>`. */
  readonly baseUriDomains?: readonly string[];
}

/** What a view asks the browser for. A host may refuse. */
export interface ViewPermissions {
  /** Pictures from a camera. */
  readonly camera?: object;
  /** Sound. */
  readonly microphone?: object;
  /** Where the person is. */
  readonly geolocation?: object;
  /** Writing to the clipboard. */
  readonly clipboardWrite?: object;
}

/** What a view says of itself, in `_meta.ui` of its resource. */
export interface ViewMeta {
  readonly csp?: ViewCsp;
  readonly permissions?: ViewPermissions;
  readonly domain?: string;
  readonly prefersBorder?: boolean;
}

/** Who may call a tool: the model, the view, or both. */
export type ToolAudience = 'model' | 'app';

/** Where a tool is shown, in its `_meta.ui`. */
export interface ToolViewMeta {
  readonly resourceUri?: string;
  readonly visibility?: readonly ToolAudience[];
}

/** What a client declares that shows views. */
export const viewCapability = { [viewExtension]: { mimeTypes: [viewMimeType] } } as const;

/** True for a client that shows views of the kind we make. */
export function showsViews(capabilities: ClientCapabilities | undefined): boolean {
  const declared = capabilities?.extensions?.[viewExtension];
  if (!isRecord(declared)) return false;
  const { mimeTypes } = declared;
  return Array.isArray(mimeTypes) && mimeTypes.includes(viewMimeType);
}

/** What a tool says of its view; the flat key is an older spelling. */
export function toolViewOf(meta: Readonly<Record<string, unknown>> | undefined): ToolViewMeta {
  const ui = isRecord(meta?.ui) ? meta.ui : {};
  const uri = typeof ui.resourceUri === 'string' ? ui.resourceUri : meta?.['ui/resourceUri'];
  const visibility = Array.isArray(ui.visibility)
    ? ui.visibility.filter((each): each is ToolAudience => each === 'model' || each === 'app')
    : undefined;
  return {
    ...(typeof uri === 'string' && uri.startsWith('ui://') && { resourceUri: uri }),
    ...(visibility !== undefined && { visibility }),
  };
}

/** Without a list both may call it. */
export function mayCall(meta: Readonly<Record<string, unknown>> | undefined, who: ToolAudience): boolean {
  return toolViewOf(meta).visibility?.includes(who) ?? true;
}

const lists = ['connectDomains', 'resourceDomains', 'frameDomains', 'baseUriDomains'] as const;
const permissionNames = ['camera', 'microphone', 'geolocation', 'clipboardWrite'] as const;
/** An origin, perhaps with `*.` before its name. What could end a directive or a header is no part of one. */
const origin = /^(?:https?|wss?):\/\/(?:\*\.)?(?:[a-z0-9-]+(?:\.[a-z0-9-]+)*|\[[0-9a-f:]+\])(?::\d{1,5})?$/i;

/** Why a text is not an origin that a policy may name; undefined when it is. */
export function originProblem(text: unknown): string | undefined {
  if (typeof text !== 'string' || !origin.test(text)) return `${JSON.stringify(text)} is no origin, as https://tiles.meadow.example is`;
  return undefined;
}

/** Reads what a server says of a view, and keeps nothing that it may not say. */
export function readViewMeta(meta: unknown): ViewMeta {
  const ui = isRecord(meta) && isRecord(meta.ui) ? meta.ui : {};
  const { csp, permissions, domain, prefersBorder } = ui;
  const read = isRecord(csp)
    ? Object.fromEntries(
        lists.flatMap((name) => {
          const given = csp[name];
          return Array.isArray(given) ? [[name, given.filter((each) => originProblem(each) === undefined)]] : [];
        }),
      )
    : undefined;
  const asked = isRecord(permissions) ? permissions : {};
  const granted = Object.fromEntries(permissionNames.flatMap((name) => (isRecord(asked[name]) ? [[name, {}]] : [])));
  return {
    ...(read !== undefined && { csp: read as ViewCsp }),
    ...(Object.keys(granted).length > 0 && { permissions: granted as ViewPermissions }),
    ...(typeof domain === 'string' && { domain }),
    ...(typeof prefersBorder === 'boolean' && { prefersBorder }),
  };
}

/**
 * The Content-Security-Policy of a view: what it declares, and nothing else (Extensions, "Sandboxing duties"). Forms go nowhere, and the frame can be
 * navigated nowhere.
 */
export function cspOf({ connectDomains = [], resourceDomains = [], frameDomains = [], baseUriDomains = [] }: ViewCsp = {}): string {
  const known = (names: readonly string[]) => names.filter((each) => originProblem(each) === undefined);
  const resources = known(resourceDomains);
  const [connect, frames, bases] = [known(connectDomains), known(frameDomains), known(baseUriDomains)];
  const list = (...words: readonly string[]) => words.join(' ');
  const or = (words: readonly string[], otherwise: string) => (words.length > 0 ? list(...words) : otherwise);
  return [
    `default-src 'none'`,
    `script-src ${list("'unsafe-inline'", ...resources)}`,
    `style-src ${list("'unsafe-inline'", ...resources)}`,
    `img-src ${list('data:', 'blob:', ...resources)}`,
    `font-src ${list('data:', ...resources)}`,
    `media-src ${list('data:', 'blob:', ...resources)}`,
    `connect-src ${or(connect, "'none'")}`,
    `frame-src ${or(frames, "'none'")}`,
    `worker-src 'none'`,
    `object-src 'none'`,
    `base-uri ${or(bases, "'none'")}`,
    `form-action 'none'`,
  ].join('; ');
}

/** What a frame’s `allow` says of permissions. */
export function allowOf(permissions: ViewPermissions = {}): string {
  const names = { camera: 'camera', microphone: 'microphone', geolocation: 'geolocation', clipboardWrite: 'clipboard-write' } as const;
  return Object.entries(names)
    .map(([name, policy]) => `${policy} ${name in permissions ? '*' : "'none'"}`)
    .join('; ');
}
