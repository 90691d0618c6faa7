import type { ViewCsp } from './views.js';

/** Names that only look like addresses. */
const names = /^https?:\/\/(?:www\.)?(?:w3\.org|json-schema\.org|schemas\.)/i;
const origin = String.raw`(?:https?|wss?):\/\/[a-z0-9.-]+(?::\d+)?`;

function originsIn(text: string, pattern: RegExp): string[] {
  return [...text.matchAll(pattern)].map((found) => found.at(-1)!.toLowerCase()).filter((each) => !names.test(each));
}

const unique = (list: readonly string[]) => [...new Set(list)].sort();

/**
 * The origins that a page names, by what it does with them, as far as its text shows: addresses of elements and styles are resources, frames and bases have
 * lists of their own, and what its scripts name is taken for something that they fetch. What scripts put together is not found.
 */
export function neededCsp(html: string): Required<ViewCsp> {
  const resources: string[] = [];
  const connects: string[] = [];
  const markup = html.replaceAll(/<script\b([^>]*)>([\s\S]*?)<\/script>/gi, (_all, attributes: string, code: string) => {
    connects.push(...originsIn(code, new RegExp(`["'\`](${origin})`, 'gi')));
    return `<script${attributes}></script>`;
  });
  const plain = markup.replaceAll(/<style\b[^>]*>([\s\S]*?)<\/style>/gi, (_all, css: string) => {
    resources.push(...originsIn(css, new RegExp(`(?:url\\(\\s*["']?|@import\\s+["'])(${origin})`, 'gi')));
    return '';
  });
  const of = (elements: string, attribute: string) =>
    originsIn(plain, new RegExp(`<(?:${elements})\\b[^>]*?\\s${attribute}\\s*=\\s*["']?(${origin})`, 'gi'));
  resources.push(
    ...of('script|img|source|video|audio|track|input', 'src(?:set)?'),
    ...of('link|image|use', '(?:xlink:)?href'),
    ...of('video', 'poster'),
  );
  resources.push(...originsIn(plain, new RegExp(`style\\s*=\\s*["'][^"']*url\\(["']?(${origin})`, 'gi')));
  return {
    connectDomains: unique(connects),
    resourceDomains: unique(resources),
    frameDomains: unique(of('iframe|frame', 'src')),
    baseUriDomains: unique(of('base', 'href')),
  };
}

/** Origins that a page names and does not declare, and those that it declares and does not name. */
export function compareCsp(
  needed: Required<ViewCsp>,
  declared: ViewCsp = {},
): { readonly missing: readonly string[]; readonly unused: readonly string[] } {
  const covers = (pattern: string, each: string) =>
    pattern.toLowerCase() === each || (pattern.includes('//*.') && each.endsWith(pattern.toLowerCase().slice(pattern.indexOf('*') + 1)));
  const missing: string[] = [];
  const unused: string[] = [];
  for (const list of ['connectDomains', 'resourceDomains', 'frameDomains', 'baseUriDomains'] as const) {
    const [wanted, given] = [needed[list], declared[list] ?? []];
    // A script may name what it only links to, or what it loads as an image.
    const used = list === 'frameDomains' || list === 'baseUriDomains' ? wanted : [...wanted, ...needed.connectDomains];
    missing.push(...wanted.filter((each) => !given.some((pattern) => covers(pattern, each))).map((each) => `${each} (${list})`));
    unused.push(...given.filter((pattern) => !used.some((each) => covers(pattern, each))).map((each) => `${each} (${list})`));
  }
  return { missing, unused };
}
