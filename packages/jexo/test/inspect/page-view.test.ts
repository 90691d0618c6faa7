import { readFileSync, statSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import AxeBuilder from 'axe-core';
import type { Page } from 'playwright-core';
import { bench, pick } from '../support/bench-page.js';
import { inChromium } from '../support/chromium.js';
import { cooperative, freshFolder, jexo } from '../support/command-line.js';

const inner = (page: Page) => page.frameLocator('.view-place iframe:visible').frameLocator('iframe');
async function show(target: string, tool: string, input: Record<string, string>, options = {}) {
  const opened = await bench([target], options);
  await pick(opened.page, tool);
  for (const [name, value] of Object.entries(input)) await opened.page.getByRole('textbox', { name }).last().fill(value);
  await opened.page.getByRole('button', { name: 'Call', exact: true }).click();
  return opened;
}

inChromium(
  'the view of an answer is shown; its calls, its messages and its memory are on the bench; the panel plays its host',
  async () => {
    const { page, errors } = await show(join(cooperative, 'hive-weight.ts'), 'hive_weight', { hive: 'MR-03' });
    const view = inner(page);
    await view.getByRole('heading', { name: 'MR-03, Millrace' }).waitFor();
    await view.getByLabel('Next inspection').fill('2026-07-12');
    await view.getByRole('button', { name: 'Book it' }).click();
    await view.getByText('Booked for 12 Jul.').waitFor();
    const did = page.getByRole('list', { name: 'What the view did' });
    await did.getByText('nothing is asked of you: the inspection of MR-03 is booked').waitFor();
    await did.getByText('The next inspection of MR-03 is on 2026-07-12.').waitFor();

    // In a lane of its own; what reached the server is in the others too.
    await page.getByRole('button', { name: 'Only what passed between a view and this page' }).click();
    const messages = page.getByRole('region', { name: 'Messages' });
    await messages.getByText('ui/initialize', { exact: true }).waitFor();
    await messages.getByText('tools/call book_inspection').waitFor();
    await messages.getByText('answer: book_inspection').waitFor();
    expect(await messages.getByText('tools/call hive_weight').count()).toBe(0);

    // The host, played.
    await page.getByText('Play the host').click();
    await page.getByLabel('Theme', { exact: true }).selectOption('dark');
    await view.locator('html[data-theme="dark"]').waitFor();
    // By the host’s theme, and not by that of the system, which is light here.
    const button = view.getByRole('button', { name: 'Book it' });
    expect(await button.evaluate((each) => getComputedStyle(each).backgroundColor)).toBe('rgb(110, 195, 212)');
    await page.getByLabel('Width').selectOption('narrow');
    expect(await page.locator('.view-place').evaluate((place) => place.clientWidth)).toBeLessThanOrEqual(360);
    await page.getByLabel('Language').selectOption('fr-FR');
    await view.getByText('2 avr.').first().waitFor();
    await page.getByLabel('calls fail').check();
    await view.getByLabel('Next inspection').fill('2026-07-13');
    await view.getByRole('button', { name: 'Book it' }).click();
    await view.getByText('The bench makes this call fail, as you asked.').waitFor();
    await page.getByRole('button', { name: 'Cancel the call' }).click();
    await view.getByText('The call was cancelled: the person has stopped it.').waitFor();
    await page.getByRole('button', { name: 'Take it away' }).click();
    await page.getByText('The view has been taken away.').waitFor();
    expect(await page.locator('.view-place iframe').count()).toBe(0);
    await page.getByRole('button', { name: 'Show again' }).click();
    await inner(page).getByRole('heading', { name: 'MR-03, Millrace' }).waitFor();

    // A tool for views alone says so, and no model is given it.
    await pick(page, 'book_inspection');
    await page.getByText('Only views call this: models do not see it').waitFor();
    await page.getByRole('button', { name: 'Model’s view' }).click();
    await page.getByText('hive_weight').first().waitFor();
    expect(await page.getByText('book_inspection').count()).toBe(0);
    expect(errors).toEqual([]);
  },
  60_000,
);

inChromium(
  'a page that is edited is shown again, with the same input and answer',
  async () => {
    const folder = freshFolder('edited');
    const file = join(folder, 'hive.html');
    const html = (word: string) => `<!doctype html><p id="p">…</p><script type="module">
let id = 0;
addEventListener('message', ({ data }) => {
  if (data.id === 0) parent.postMessage({ jsonrpc: '2.0', method: 'ui/notifications/initialized', params: {} }, '*');
  if (data.method === 'ui/notifications/tool-result') document.getElementById('p').textContent = '${word}: ' + data.params.structuredContent.kg + ' kg';
});
parent.postMessage({ jsonrpc: '2.0', id: 0, method: 'ui/initialize', params: { protocolVersion: '2026-01-26', appInfo: { name: 'v', version: '1' }, appCapabilities: {} } }, '*');
</script>`;
    writeFileSync(file, html('first'));
    writeFileSync(
      join(folder, 'server.ts'),
      `import { defineServer, tool, view } from 'jexo';
let calls = 0;
export default defineServer({ name: 'a', version: '1.0.0', offers: [tool('weigh', { description: 'Weighs.', output: { type: 'object', properties: { kg: { type: 'number' } } }, view: view('hive', { file: new URL('./hive.html', import.meta.url) }) }, () => ({ kg: 30 + ++calls }))] });
`,
    );
    const { page } = await show(join(folder, 'server.ts'), 'weigh', {});
    await inner(page).getByText('first: 31 kg').waitFor();
    writeFileSync(file, html('second'));
    // The tool was not called again.
    await inner(page).getByText('second: 31 kg').waitFor();
  },
  60_000,
);

inChromium.each(['light', 'dark'] as const)(
  'the demo’s view has nothing for axe to find, and enough contrast: %s',
  async (colorScheme) => {
    const { page } = await show(join(cooperative, 'hive-weight.ts'), 'hive_weight', { hive: 'MR-03' }, { colorScheme });
    await inner(page).getByRole('heading', { name: 'MR-03, Millrace' }).waitFor();
    const frame = page
      .frames()
      .find((each) => each.parentFrame()?.parentFrame() !== undefined && each.parentFrame()?.parentFrame() !== null)!;
    await inner(page).getByText('Inspections').click();
    const found = await frame.evaluate(
      async ([source]) => {
        (0, eval)(source!);
        return (
          globalThis as unknown as { axe: { run(): Promise<{ violations: { id: string; nodes: { html: string }[] }[] }> } }
        ).axe.run();
      },
      [AxeBuilder.source],
    );
    expect(found.violations.map(({ id, nodes }) => [id, nodes.map(({ html }) => html)])).toEqual([]);
    expect(readFileSync(join(cooperative, 'views/hive-weight/index.html'), 'utf8')).toContain('<form');
  },
  60_000,
);

inChromium(
  'a page in React: input, answer, context and a call by the hook',
  async () => {
    const folder = freshFolder('react');
    symlinkSync(join(cooperative, '../../node_modules'), join(folder, 'node_modules'));
    writeFileSync(
      join(folder, 'index.html'),
      '<!doctype html><title>v</title><div id="root"></div><script type="module" src="./main.tsx"></script>',
    );
    writeFileSync(
      join(folder, 'main.tsx'),
      `import { createElement as h } from 'react';
import { createRoot } from 'react-dom/client';
import { useView } from 'jexo/view/react';
function App() {
  const { view, input, result, context, error } = useView();
  if (error) return h('p', null, error.message);
  return h('main', null,
    h('p', null, \`\${input?.hive}: \${result?.structuredContent?.kg} kg, \${context.theme}\`),
    h('button', { onClick: async () => (document.title = (await view.call('twice', { kg: 21 })).content[0].text) }, 'Twice'),
    h('p', { id: 'said' }, view?.host.name));
}
createRoot(document.getElementById('root')).render(h(App));
`,
    );
    writeFileSync(
      join(folder, 'server.ts'),
      `import { defineServer, tool, view } from 'jexo';
const kg = { type: 'object', properties: { kg: { type: 'number' } } } as const;
export default defineServer({ name: 'a', version: '1.0.0', offers: [
  tool('weigh', { description: 'Weighs.', input: { type: 'object', properties: { hive: { type: 'string' } }, examples: [{ hive: 'MR-03' }] }, output: kg, view: view('hive', { folder: new URL('./', import.meta.url) }) }, () => ({ kg: 31 })),
  tool('twice', { description: 'Doubles.', input: kg, visibleTo: 'view' }, ({ kg }) => String(2 * (kg as number))),
] });
`,
    );
    const { page } = await show(join(folder, 'server.ts'), 'weigh', { hive: 'MR-03' });
    const view = inner(page);
    await view.getByText('MR-03: 31 kg, light').waitFor();
    await view.getByText('jexo inspector').waitFor();
    await view.getByRole('button', { name: 'Twice' }).click();
    await page.getByRole('region', { name: 'Messages' }).getByText('tools/call twice').first().waitFor();

    const pictures = join(folder, 'pictures');
    const { code, stderr } = await jexo(['check', join(folder, 'server.ts'), '--pictures', pictures, '--fail-on', 'never']);
    expect([code, stderr]).toEqual([0, expect.stringContaining('weigh: 6 pictures')]);
    for (const name of ['360-light', '640-dark', '1024-dark'])
      expect(statSync(join(pictures, `weigh-${name}.png`)).size).toBeGreaterThan(1000);
  },
  90_000,
);
