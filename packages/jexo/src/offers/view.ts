import { JexoError } from '../errors.js';
import { after, type MaybePromise } from '../engine/store.js';
import type { Icon } from '../protocol/types.js';
import { originProblem, viewMimeType, type ViewCsp, type ViewMeta, type ViewPermissions } from '../protocol/views.js';
import type { Offer, ResourceOffer } from './offer.js';
import { resource } from './resource.js';

/** What `view` takes beside the name. */
export interface ViewDefinition {
  /** For people. */
  readonly title?: string;
  /** What it shows. */
  readonly description?: string;
  /** `https:` or `data:` images that clients may show. */
  readonly icons?: readonly Icon[];
  /** Only callers with this scope see it. */
  readonly scope?: string;
  /** Group it, for choices and switches. */
  readonly tags?: readonly string[];
  /** The whole page, or what gives it: it is asked for each reading. */
  readonly html: string | (() => MaybePromise<string>);
  /** Origins that the page may reach. Default: none; whatever it needs is inside it. */
  readonly csp?: ViewCsp;
  /** What it asks the browser for. Default: nothing. */
  readonly permissions?: ViewPermissions;
  /** Whether it wants a border around it. Default: as the host likes. */
  readonly border?: boolean;
  /** An origin of its own that a host may give it; its form is up to each host. */
  readonly domain?: string;
  /** Calls `changed` whenever the page does. */
  readonly watch?: (changed: () => void) => () => void;
}

/** The page that is shown with a tool's answers. */
export interface ViewOffer extends ResourceOffer {
  /** What it says of itself. */
  readonly view: ViewMeta;
  /** The page as it is now. */
  readonly page: () => MaybePromise<string>;
}

/** `hive-weight` gives `ui://view/hive-weight`; a name with a slash stands by itself. */
export function viewUri(name: string): string {
  return name.includes('/') ? `ui://${name}` : `ui://view/${name}`;
}

/** @throws JexoError JEXO_DEFINITION */
export function viewOffer(name: string, definition: ViewDefinition): ViewOffer {
  const where = `view ${name}`;
  const refuse = (message: string, next?: string): never => {
    throw new JexoError('JEXO_DEFINITION', `${where} ${message}`, { where, ...(next !== undefined && { next }) });
  };
  if (typeof name !== 'string' || !/^[A-Za-z0-9._-]+(?:\/[A-Za-z0-9._-]+)*$/.test(name))
    refuse('needs a name of letters, digits, dots, dashes and slashes.');
  const { html, csp, permissions, border, domain, ...described } = definition;
  for (const [list, origins] of Object.entries(csp ?? {})) {
    if (!Array.isArray(origins)) refuse(`has a csp whose ${list} is no list.`);
    for (const each of origins as unknown[]) {
      const problem = originProblem(each);
      if (problem !== undefined)
        refuse(`names a wrong origin in ${list}: ${problem}.`, 'Paths, wildcards of all hosts and spaces are not allowed.');
    }
  }
  const meta: ViewMeta = {
    ...(csp !== undefined && { csp }),
    ...(permissions !== undefined && { permissions }),
    ...(domain !== undefined && { domain }),
    ...(border !== undefined && { prefersBorder: border }),
  };
  const uri = viewUri(name);
  const ui = Object.keys(meta).length === 0 ? undefined : { ui: meta };
  const page = async () => {
    const text = typeof html === 'string' ? html : await html();
    if (!/<[a-z!]/i.test(text)) refuse('has a page without any HTML in it.');
    return text;
  };
  const made = resource(uri, { name, ...described, mimeType: viewMimeType, ...(ui && { meta: ui }) }, () => undefined);
  return reading({ ...made, view: meta, page });
}

function reading(offer: ViewOffer): ViewOffer {
  const { uri, meta, page } = offer;
  const contents = (text: string) => ({ uri, mimeType: viewMimeType, text, ...(meta && { _meta: meta }) });
  return { ...offer, run: () => after(page(), contents) };
}

/** The view of a part: a tool’s, or the part itself. */
export function viewOf(offer: Offer): ViewOffer | undefined {
  if (offer.kind === 'tool') return typeof offer.view === 'object' ? offer.view : undefined;
  return offer.kind === 'resource' && 'page' in offer ? (offer as ViewOffer) : undefined;
}

/** The view with the page that it once had, whatever has become of its file. */
export function withPage({ watch: _, ...view }: ViewOffer, html: string): ViewOffer {
  return reading({ ...view, page: () => html });
}
