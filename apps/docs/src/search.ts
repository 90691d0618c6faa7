import type { Hit, Hits, SiteDocument } from './find.js';

const box = document.querySelector<HTMLInputElement>('header input')!;
const up = document.body.dataset.up ?? '';

document.addEventListener('keydown', (event) => {
  const isTyping = event.target instanceof HTMLInputElement || event.ctrlKey || event.metaKey || event.altKey;
  if (event.key !== '/' || isTyping) return;
  event.preventDefault();
  box.focus();
});

let ready: Promise<(words: string) => Hits> | undefined;
/** The pages are fetched by the first search. */
const finding = () =>
  (ready ??= Promise.all([import('./find.js'), import('../.pages/documents.json')]).then(([{ finder }, { default: documents }]) =>
    finder(documents as readonly SiteDocument[]),
  ));

function element(name: string, text: string, more: Record<string, string> = {}): HTMLElement {
  const made = document.createElement(name);
  made.textContent = text;
  for (const [key, value] of Object.entries(more)) made.setAttribute(key, value);
  return made;
}

function shownHit({ href, heading, snippet }: Hit): HTMLElement {
  const hit = element('div', '', { class: 'hit' });
  const said = element('p', '');
  for (const [at, part] of snippet.split('**').entries()) said.append(at % 2 === 1 ? element('mark', part) : part);
  hit.append(element('a', heading, { href: up + href }), said);
  return hit;
}

const place = document.getElementById('hits');
let last = 0;
async function show(words: string): Promise<void> {
  const turn = ++last;
  const title = document.querySelector('h1')!;
  if (words.trim() === '') {
    title.textContent = 'Search';
    place!.replaceChildren(element('p', 'Type what you look for, in your own words. Words in quotes stand together.'));
    return;
  }
  const find = await finding();
  if (turn !== last) return;
  const { guides, api } = find(words);
  title.textContent = words;
  const parts = [
    ...guides.map(shownHit),
    ...(api.length === 0 ? [] : [element('h2', 'In the API'), ...api.map(shownHit)]),
    ...(guides.length + api.length === 0 ? [element('p', 'No page has these words.')] : []),
  ];
  place!.replaceChildren(...parts);
}

if (place !== null) {
  box.value = new URLSearchParams(location.search).get('words') ?? '';
  const search = () =>
    show(box.value).catch((error: unknown) =>
      place.replaceChildren(element('p', `The search could not be loaded: ${(error as Error).message}`)),
    );
  box.addEventListener('input', () => {
    history.replaceState(null, '', `?words=${encodeURIComponent(box.value)}`);
    void search();
  });
  box.form!.addEventListener('submit', (event) => event.preventDefault());
  void search();
}
