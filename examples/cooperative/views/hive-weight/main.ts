/** The page beside the answer of hive_weight: the season of one hive, and the form that books its next inspection. */
import { done, openView } from 'jexo/view';
import type { bookInspection, hiveWeight } from '../../hive-weight.js';

const view = await openView<typeof hiveWeight, { book_inspection: typeof bookInspection }>({ displayModes: ['inline', 'fullscreen'] });
type Season = NonNullable<NonNullable<typeof view.result>['structuredContent']>;

const element = <E extends Element = HTMLElement>(id: string) => document.getElementById(id) as unknown as E;
const [title, words, said] = [element('title'), element('words'), element('said')];
const form = element<HTMLFormElement>('book');
const locale = () => view.context.locale ?? 'en';
const day = (date: string) =>
  new Date(`${date}T12:00:00Z`).toLocaleDateString(locale(), { day: 'numeric', month: 'short', timeZone: 'UTC' });

view.onPartialInput(({ hive }) => (title.textContent = `${hive ?? ''}…`));
view.onInput(({ hive }) => (title.textContent = hive));
view.onCancelled((reason) => (words.textContent = `The call was cancelled${reason ? `: ${reason}` : ''}.`));
view.onResult(({ structuredContent, isError, content }) => {
  if (isError || structuredContent === undefined) words.textContent = content[0]?.text ?? 'There is nothing to show.';
  else draw(structuredContent);
});
view.onContext(() => view.result?.structuredContent && draw(view.result.structuredContent));

function draw({ hive, apiary, weights, inspections }: Season): void {
  title.textContent = `${hive}, ${apiary}`;
  const kilograms = weights.map(({ kg }) => kg);
  const [least, most] = [Math.floor(Math.min(...kilograms)) - 1, Math.ceil(Math.max(...kilograms)) + 1];
  const gain = kilograms.at(-1)! - kilograms[0]!;
  words.textContent = `From ${kilograms[0]} to ${kilograms.at(-1)} kg: ${gain >= 0 ? 'gained' : 'lost'} ${Math.abs(gain).toFixed(1)} kg since ${day(weights[0]!.date)}.`;
  const [from, to] = [Date.parse(weights[0]!.date), Date.parse(weights.at(-1)!.date)];
  // The curve begins beside the labels of its axis.
  const x = (date: string) => 44 + ((Date.parse(date) - from) / (to - from)) * 556;
  const y = (kg: number) => 180 - ((kg - least) / (most - least)) * 160;
  const svg = (name: string, attributes: Record<string, string | number>) => {
    const made = document.createElementNS('http://www.w3.org/2000/svg', name);
    for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, String(value));
    return made;
  };
  const lines = [least + 1, (least + most) / 2, most - 1];
  element('chart').replaceChildren(
    ...lines.map((kg) => svg('line', { x1: 0, x2: 600, y1: y(kg), y2: y(kg) })),
    ...inspections.map(({ date }) => svg('line', { x1: x(date), x2: x(date), y1: 20, y2: 180, class: 'mark' })),
    svg('path', {
      d: weights.map(({ date, kg }, index) => `${index === 0 ? 'M' : 'L'}${x(date).toFixed(1)} ${y(kg).toFixed(1)}`).join(''),
    }),
  );
  const label = (text: string, kind: string, place: Record<string, string>) => {
    const made = document.createElement('li');
    made.textContent = text;
    made.className = kind;
    for (const [name, value] of Object.entries(place)) made.style.setProperty(name, value);
    return made;
  };
  element('marks').replaceChildren(
    ...lines.map((kg) => label(`${kg.toFixed(0)} kg`, 'axis', { top: `calc(${(y(kg) / 200) * 100}% - 18px)` })),
    ...inspections.map(({ date }) => {
      const share = (x(date) / 600) * 100;
      // Near the right edge a date stands before its line.
      return label(day(date), 'mark', {
        top: '-4px',
        ...(share > 85 ? { right: `${100 - share}%`, 'padding-right': '4px' } : { left: `${share}%` }),
      });
    }),
  );
  element('inspections').replaceChildren(
    ...inspections.map(({ date, note }) => {
      const row = document.createElement('tr');
      for (const text of [day(date), note]) row.appendChild(document.createElement('td')).textContent = text;
      return row;
    }),
  );
}

form.addEventListener('submit', (event) => {
  event.preventDefault();
  void book();
});

async function book(): Promise<void> {
  const hive = view.result?.structuredContent?.hive;
  if (hive === undefined) return;
  const { date, note } = Object.fromEntries(new FormData(form)) as { date: string; note: string };
  const button = form.querySelector('button')!;
  button.disabled = true;
  said.textContent = 'Booking…';
  try {
    // Straight to the server: the model has no part in it.
    const { isError, content } = await view.call('book_inspection', { hive, date, ...(note !== '' && { note }) });
    if (isError) {
      said.textContent = content[0]?.text ?? 'It could not be booked.';
      return;
    }
    said.textContent = `Booked for ${day(date)}.`;
    form.reset();
    await view.remember(`The next inspection of ${hive} is on ${date}.`, { hive, date });
    await view.say(done(`the inspection of ${hive} is booked for ${day(date)}.`));
  } catch (error) {
    said.textContent = said.textContent.startsWith('Booked') ? said.textContent : (error as Error).message;
    view.log('warning', String(error));
  } finally {
    button.disabled = false;
  }
}
