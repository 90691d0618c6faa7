import type { Resource, Tool } from '../../protocol/types.js';
import { compareCsp, neededCsp } from '../../protocol/view-needs.js';
import { readViewMeta, toolViewOf, type ViewCsp } from '../../protocol/views.js';
import type { Report } from './finding.js';

/** A view as it was read. */
export interface SeenView {
  readonly uri: string;
  /** Undefined when it could not be read. */
  readonly html?: string;
  /** Of the contents. */
  readonly meta?: unknown;
  readonly why?: string;
  /** Origins that it declares and that did not answer. */
  readonly unreachable?: readonly string[];
}

const mostBytes = 500_000;
/** What a message begins with that asks a model for something. */
const asks =
  /^(?:please|can you|could you|would you|do |don['’]t|let['’]s|i want|i need|book|show|tell|find|give|make|create|call|use|run|get|list|open|send|explain|what|which|when|where|who|why|how)\b|\?\s*$/i;

/** Judges the pages that hosts show with answers. */
export function checkViews(tools: readonly Tool[], resources: readonly Resource[], views: readonly SeenView[], report: Report): void {
  const listed = new Map(resources.map((each) => [each.uri, each]));
  const read = new Map(views.map((each) => [each.uri, each]));
  for (const { name, _meta } of tools) {
    const { resourceUri, visibility } = toolViewOf(_meta);
    if (resourceUri !== undefined && read.get(resourceUri)?.html === undefined)
      report({
        rule: 'view-unreadable',
        severity: 'error',
        subject: `tool ${name}`,
        message: `Its view ${resourceUri} can't be read: ${read.get(resourceUri)?.why ?? 'it is not listed'}.`,
        remedy: 'Offer the view with the tool: tool(name, { view: view(…) }).',
      });
    if (visibility?.length === 0)
      report({
        rule: 'view-unreadable',
        severity: 'warning',
        subject: `tool ${name}`,
        message: 'It is visible to nobody: neither the model nor a view may call it.',
        remedy: 'Name model or app in its visibility.',
      });
  }
  for (const view of views)
    if (view.html !== undefined) checkView(view as SeenView & { readonly html: string }, listed.get(view.uri), report);
}

function checkView(
  { uri, html, meta, unreachable = [] }: SeenView & { readonly html: string },
  listed: Resource | undefined,
  given: Report,
): void {
  const report = (finding: Omit<Parameters<Report>[0], 'subject'>) => given({ subject: `resource ${uri}`, ...finding });
  const csp: ViewCsp = { ...readViewMeta(listed?._meta).csp, ...readViewMeta(meta).csp };
  const { missing, unused } = compareCsp(neededCsp(html), csp);
  if (missing.length > 0)
    report({
      rule: 'view-blocked-origin',
      severity: 'warning',
      message: `The page names origins that it does not declare, so that hosts block them: ${missing.join(', ')}.`,
      remedy: 'Put what it needs inside the page (jexo/vite does), or declare the origin in csp.',
    });
  if (unused.length > 0)
    report({
      rule: 'view-wide-csp',
      severity: 'warning',
      message: `The view declares origins that its page does not name: ${unused.join(', ')}.`,
      remedy: 'Remove them from csp: whatever is declared is a way out for what the page is given.',
    });
  for (const each of unreachable)
    report({
      rule: 'view-unreachable-origin',
      severity: 'warning',
      message: `The view declares ${each}, which does not answer from here.`,
      remedy: 'Correct the origin, or remove it from csp.',
    });
  const bytes = new TextEncoder().encode(html).length;
  if (bytes > mostBytes)
    report({
      rule: 'view-too-large',
      severity: 'warning',
      message: `The page has ${Math.round(bytes / 1000)} kB. Hosts load it with every answer.`,
      remedy: 'Keep it under 500 kB: smaller pictures, fewer fonts, a smaller library.',
    });
  if (!html.includes('ui/notifications/size-changed'))
    report({
      rule: 'view-no-size',
      severity: 'warning',
      message: 'The page never reports its size, so that hosts show it too small or too large.',
      remedy: 'Use openView of jexo/view, which does, or send ui/notifications/size-changed.',
    });
  const markup = html.replaceAll(/<(script|style)\b[\s\S]*?<\/\1>/gi, '');
  const handlers = [...new Set([...markup.matchAll(/\s(on[a-z]{3,})\s*=\s*["']/gi)].map(([, name]) => name!.toLowerCase()))];
  if (handlers.length > 0)
    report({
      rule: 'view-inline-handler',
      severity: 'warning',
      message: `The page has handlers in its markup, which stricter hosts don't run: ${handlers.join(', ')}.`,
      remedy: 'Listen in a script: element.addEventListener(…).',
    });
  for (const found of html.matchAll(/\.say\(\s*(["'`])((?:\\.|(?!\1)[^\\])+)\1/g)) {
    const text = found[2]!;
    if (!asks.test(text)) continue;
    report({
      rule: 'view-asks-model',
      severity: 'warning',
      message: `A message of the page reads like a request, so that a model acts on it: ${JSON.stringify(text.slice(0, 80))}.`,
      remedy: 'State what has happened: view.say(done(`…`)).',
    });
  }
}
