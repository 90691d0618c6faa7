import type { Plugin } from 'vite';
import { compareCsp, neededCsp } from '../../protocol/view-needs.js';
import type { ViewCsp } from '../../protocol/views.js';

/** What the plugin is given. */
export interface ViewPluginOptions {
  /** What the view declares. Origins that the page names and that are not here are reported, and the other way round. */
  readonly csp?: ViewCsp;
  /** Bytes above which the page is reported as too large. Default 500,000. */
  readonly maxBytes?: number;
}

const usualMaxBytes = 500_000;

type Bundle = Record<string, { readonly type: string; readonly fileName: string; code?: string; source?: string | Uint8Array }>;

/**
 * Makes one page of an app: scripts, styles, fonts and images go inside, so that a host can show it in a sandbox that reaches nothing. Reports its size, and
 * the origins that it names beside those it declares.
 *
 * @example
 * // vite.config.ts
 * import { singlePage } from 'jexo/vite';
 * export default { plugins: [singlePage({ csp: { connectDomains: ['https://tiles.meadow.example'] } })] };
 */
export function singlePage({ csp, maxBytes = usualMaxBytes }: ViewPluginOptions = {}): Plugin {
  return {
    name: 'jexo:single-page',
    enforce: 'post',
    config: () => ({
      base: './',
      build: {
        assetsInlineLimit: () => true,
        // For older browsers light-dark() would be rewritten to follow the system, and not the theme of the host.
        target: 'esnext',
        cssTarget: 'esnext',
        cssCodeSplit: false,
        modulePreload: false as const,
        rollupOptions: { output: { codeSplitting: false } },
      },
    }),
    generateBundle: {
      order: 'post',
      handler(_options, given) {
        const bundle = given as unknown as Bundle;
        for (const page of Object.values(bundle)) {
          if (!page.fileName.endsWith('.html')) continue;
          const html = inlined(String(page.source), bundle);
          page.source = html;
          const bytes = Buffer.byteLength(html);
          this.info(`${page.fileName}: one page of ${(bytes / 1000).toFixed(1)} kB`);
          if (bytes > maxBytes)
            this.warn(
              `${page.fileName} has ${(bytes / 1000).toFixed(0)} kB; hosts load it with every answer. Keep it under ${maxBytes / 1000} kB.`,
            );
          const needed = neededCsp(html);
          const { missing, unused } = compareCsp(needed, csp);
          if (missing.length > 0) this.warn(`${page.fileName} names origins that its csp does not declare: ${missing.join(', ')}`);
          if (csp !== undefined && unused.length > 0)
            this.warn(`${page.fileName} declares origins that it does not name: ${unused.join(', ')}`);
        }
        for (const [name, { fileName }] of Object.entries(bundle)) if (!fileName.endsWith('.html')) delete given[name];
      },
    },
  };
}

function inlined(html: string, bundle: Bundle): string {
  const find = (path: string) => Object.values(bundle).find(({ fileName }) => path.replace(/^\.?\//, '') === fileName);
  const textOf = ({ code, source }: Bundle[string]) =>
    code ?? (typeof source === 'string' ? source : Buffer.from(source!).toString('utf8'));
  const scripts: string[] = [];
  const withStyles = html
    .replaceAll(/<link\b[^>]*\brel="stylesheet"[^>]*\bhref="([^"]+)"[^>]*>/g, (all, path: string) => {
      const found = find(path);
      return found === undefined ? all : `<style>${textOf(found).trim().replaceAll('</style', '<\\/style')}</style>`;
    })
    .replaceAll(/<script\b([^>]*?)\ssrc="([^"]+)"([^>]*)><\/script>\s*/g, (all, _before: string, path: string) => {
      const found = find(path);
      if (found === undefined) return all;
      scripts.push(`<script type="module">${textOf(found).trim().replaceAll('</script', '<\\/script')}</script>`);
      return '';
    });
  // Where the body is complete: what was deferred as a file need not wait as text.
  const end = withStyles.lastIndexOf('</body>');
  return end < 0 ? `${withStyles}${scripts.join('')}` : `${withStyles.slice(0, end)}${scripts.join('')}\n${withStyles.slice(end)}`;
}
