/** A hive over the season, with the page that shows it; and the booking that a person makes there, and no model. */
import { answer, defineServer, tool, view } from 'jexo';
import { z } from 'zod';
import { apiaries, hives, yearOfWeights } from './records';

const hiveId = z
  .string()
  .regex(/^[A-Z]{2}-\d{2}$/)
  .describe('a hive, as MR-03');
const booked = new Map<string, { date: string; note: string }[]>();

function need(id: string) {
  const hive = hives.get(id);
  if (hive === undefined) throw new Error(`Hive ${id} is not known. Hives are named like MR-03.`);
  return hive;
}

const season = view('hive-weight', {
  folder: new URL('./views/hive-weight/', import.meta.url),
  title: 'A hive over the season',
  description: 'The weight curve of one hive with its inspections, and a form that books the next one.',
});

/** The first day of the season, and its last: the scales were read until the end of June. */
const [first, last] = [Date.UTC(2026, 2, 1), Date.UTC(2026, 5, 30)];
const dayMs = 86_400_000;

export const hiveWeight = tool(
  'hive_weight',
  {
    title: 'A hive over the season',
    description: 'The weight of one hive from March to June, day by day, with its inspections. Use to see how a colony does.',
    input: z.object({ hive: hiveId }).meta({ examples: [{ hive: 'MR-03' }] }),
    output: z.object({
      hive: z.string(),
      apiary: z.string(),
      weights: z.array(z.object({ date: z.string(), kg: z.number() })),
      inspections: z.array(z.object({ date: z.string(), note: z.string() })),
      booked: z.array(z.object({ date: z.string(), note: z.string() })),
    }),
    annotations: { readOnlyHint: true, openWorldHint: false },
    view: season,
  },
  ({ hive: id }) => {
    const hive = need(id);
    const readings = [...yearOfWeights(hive)];
    const start = (first - Date.UTC(2026, 0, 1)) / dayMs;
    const weights = Array.from({ length: (last - first) / dayMs + 1 }, (_, index) => ({
      date: new Date(first + index * dayMs).toISOString().slice(0, 10),
      kg: Math.round(readings[(start + index) * 96 + 48]! * 10) / 10,
    }));
    const found = { hive: id, apiary: apiaries[hive.apiary], weights, inspections: [...hive.inspections], booked: booked.get(id) ?? [] };
    const [from, to] = [weights[0]!, weights.at(-1)!];
    const change = Math.round((to.kg - from.kg) * 10) / 10;
    const text = `${id} at ${found.apiary} weighed ${from.kg} kg on ${from.date} and ${to.kg} kg on ${to.date}: ${change >= 0 ? '+' : ''}${change} kg. Inspections: ${hive.inspections.map(({ date, note }) => `${date}: ${note}`).join(' ')}`;
    return answer({ structuredContent: found, content: [{ type: 'text', text }] });
  },
);

export const bookInspection = tool(
  'book_inspection',
  {
    title: 'Book an inspection',
    description: 'Books the next inspection of a hive. For the page that shows the hive: a person decides on it there.',
    input: z.object({
      hive: hiveId,
      date: z.iso.date().describe('between July and October 2026'),
      note: z.string().max(80).optional().describe('what to look for'),
    }),
    output: z.object({ hive: z.string(), date: z.string(), note: z.string() }),
    annotations: { destructiveHint: false, openWorldHint: false },
    visibleTo: 'view',
  },
  ({ hive, date, note = '' }) => {
    need(hive);
    if (date < '2026-07-01' || date > '2026-10-31') throw new Error('Inspections are booked between July and October 2026.');
    if (booked.get(hive)?.some((each) => each.date === date)) throw new Error(`${hive} has an inspection on ${date} already.`);
    booked.set(hive, [...(booked.get(hive) ?? []), { date, note }]);
    return { hive, date, note };
  },
);

export default defineServer({
  name: 'alderwick_season',
  title: 'Alderwick season',
  version: '1.0.0',
  instructions: 'The season of a hive, as a curve. Inspections are booked by people, on the page of the hive.',
  offers: [hiveWeight, bookInspection],
});
