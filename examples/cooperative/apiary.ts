/** The cooperative's server: its plain functions, its records, and the work that needs a person, time or a model. */
import { defineServer, prompt, resource, template, tool, wrapFunctions } from 'jexo';
import { z } from 'zod';
import * as formulas from './hives';
import { apiaries, apiaryCodes, hives, yearOfWeights, type ApiaryCode, type Hive } from './records';

function findHive(id: string): Hive {
  const hive = hives.get(id.toUpperCase());
  if (hive === undefined) throw new Error(`Hive ${id} is not known. Hives are named like MR-03: ${apiaryCodes.join(', ')} and a number.`);
  return hive;
}

const hiveId = z
  .string()
  .regex(/^[A-Z]{2}-\d{2}$/)
  .describe('a hive, as MR-03');
const where = new Map<string, ApiaryCode>([...hives.values()].map(({ id, apiary }) => [id, apiary]));

const moveHive = tool(
  'move_hive',
  {
    title: 'Move a hive',
    description:
      'Moves a hive to another apiary. Use when someone wants a colony brought elsewhere. Asks where to, if it is not said, and always asks to confirm.',
    input: z.object({ hive: hiveId, to: z.enum(apiaryCodes as [ApiaryCode, ...ApiaryCode[]]).describe('the apiary it goes to') }),
    output: z.object({ hive: z.string(), from: z.string(), to: z.string() }),
    annotations: { destructiveHint: true, idempotentHint: true, openWorldHint: false },
    ask: { to: 'Which apiary should it go to?' },
    confirm: 'Move {hive} to {to}?',
  },
  ({ hive, to }, call) => {
    const from = where.get(findHive(hive).id)!;
    if (from === to) throw new Error(`${hive} stands at ${apiaries[to]} already.`);
    call.progress(1, 2, 'closing the entrance');
    where.set(hive, to);
    call.progress(2, 2, 'opened again');
    server.updated(`hive://${hive}`);
    return { hive, from: apiaries[from], to: apiaries[to] };
  },
);

const seasonReport = tool(
  'season_report',
  {
    title: 'Season report',
    description:
      'Reads a year of scale readings of every hive and gives the gain of each apiary. Use for an overview of the season; it takes a while and can run as a task.',
    output: z.object({
      readings: z.number(),
      apiaries: z.array(z.object({ apiary: z.string(), hives: z.number(), bestHive: z.string(), gainKg: z.number() })),
    }),
    annotations: { readOnlyHint: true, openWorldHint: false },
    taskSupport: 'optional',
  },
  async (_input, call) => {
    const gains = new Map<string, number>();
    let readings = 0;
    for (const hive of hives.values()) {
      call.signal.throwIfAborted();
      let first: number | undefined;
      let most = 0;
      for (const weight of yearOfWeights(hive)) {
        first ??= weight;
        most = Math.max(most, weight);
        readings++;
      }
      gains.set(hive.id, most - first!);
      call.progress(gains.size, hives.size, `read ${hive.id}`);
      await new Promise((resolve) => setImmediate(resolve)); // other calls get their turn
    }
    const rows = apiaryCodes.map((code) => {
      const own = [...hives.values()].filter(({ apiary }) => apiary === code);
      const best = own.reduce((a, b) => (gains.get(a.id)! >= gains.get(b.id)! ? a : b));
      const gain = own.reduce((sum, { id }) => sum + gains.get(id)!, 0);
      return { apiary: apiaries[code], hives: own.length, bestHive: best.id, gainKg: Math.round(gain * 10) / 10 };
    });
    return { readings, apiaries: rows };
  },
);

const writeSummary = tool(
  'write_summary',
  {
    title: 'Write a summary',
    description:
      'Has the caller’s own model put a hive’s inspections into two sentences for the keeper. Use when someone wants to read, not to look up.',
    input: z.object({ hive: hiveId }),
    output: z.object({ summary: z.string() }),
    annotations: { readOnlyHint: true },
    fallback: ({ hive }) => ({ summary: inspectionsOf(findHive(hive)) }),
  },
  async ({ hive }, call) => {
    const text = inspectionsOf(findHive(hive));
    const { content } = await call.generate({
      systemPrompt: 'You write for beekeepers, plainly and briefly.',
      messages: [{ role: 'user', content: { type: 'text', text: `Put into two sentences:\n${text}` } }],
      maxTokens: 200,
    });
    const [block] = [content].flat();
    return { summary: block?.type === 'text' ? block.text : text };
  },
);

function inspectionsOf(hive: Hive): string {
  return hive.inspections.map(({ date, note }) => `${date}: ${note}`).join('\n');
}

const overview = resource(
  'alderwick://apiaries',
  {
    name: 'apiaries',
    title: 'The six apiaries',
    description: 'Each apiary with the hives that stand there.',
    mimeType: 'application/json',
  },
  () => apiaryCodes.map((code) => ({ code, name: apiaries[code], hives: [...where].filter(([, at]) => at === code).map(([id]) => id) })),
);

/** The mark that is burnt into every hive: a very small picture. */
const mark = resource('alderwick://mark.png', { name: 'mark', title: 'The brand of the cooperative', mimeType: 'image/png' }, () =>
  Uint8Array.from(atob('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNkYPhfDwAChwGA60e6kgAAAABJRU5ErkJggg=='), (letter) =>
    letter.charCodeAt(0),
  ),
);

const hiveRecord = template(
  'hive://{hive}',
  {
    name: 'hive',
    title: 'A hive’s record',
    description: 'Queen, strength, place and inspections of one hive.',
    mimeType: 'application/json',
    complete: { hive: [...hives.keys()] },
    list: () =>
      [...hives.values()]
        .slice(0, 5)
        .map(({ id, apiary }) => ({ uri: `hive://${id}`, name: id, title: `${id} at ${apiaries[apiary]}`, mimeType: 'application/json' })),
  },
  ({ hive }) => {
    const found = hives.get(hive);
    return found && { ...found, apiary: apiaries[where.get(hive)!] };
  },
);

const inspectionSummary = prompt(
  'inspection_summary',
  {
    title: 'Summary of a hive’s inspections',
    description: 'Starts a talk about one hive, with its record at hand.',
    input: z.object({ hive: hiveId }),
    complete: { hive: [...hives.keys()] },
  },
  ({ hive }) => [
    { type: 'resource', resource: { uri: `hive://${hive}`, mimeType: 'text/plain', text: inspectionsOf(findHive(hive)) } },
    `Summarise the inspections of ${hive}: what changed, what to watch, what to do next.`,
  ],
);

const lotLabel = prompt(
  'lot_label',
  {
    title: 'A label for a lot',
    description: 'Asks for the text of a jar’s label.',
    input: z.object({
      lot: z.string().describe('the lot, as H-204'),
      language: z.enum(['en', 'fr', 'de', 'cy']).describe('language of the label'),
    }),
  },
  ({ lot, language }) =>
    `Write the label of honey lot ${lot} in the language ${language}: name, weight, best before, the cooperative's name. At most five lines.`,
);

const beforeWinter = prompt(
  'before_winter',
  {
    title: 'Before winter',
    description: 'Goes through what an apiary needs before the first frost.',
    input: z.object({ apiary: z.enum(apiaryCodes as [ApiaryCode, ...ApiaryCode[]]).describe('two letters'), hive: hiveId.optional() }),
    // Once the apiary is known, only its own hives are suggested.
    complete: {
      hive: (_typed, { arguments: known }) =>
        [...where].filter(([, at]) => known.apiary === undefined || at === known.apiary).map(([id]) => id),
    },
  },
  ({ apiary, hive }) => [
    { role: 'user', content: `We prepare ${hive ?? `the hives of ${apiaries[apiary]}`} for winter.` },
    { role: 'assistant', content: 'Stores, mites, queen, mouse guards, wind: I will ask about each in turn.' },
    { role: 'user', content: 'Begin.' },
  ],
);

const server = defineServer({
  name: 'alderwick_apiary',
  title: 'Alderwick apiary',
  version: '1.0.0',
  instructions: 'Hive records, feeding and season figures of the Alderwick beekeepers’ cooperative. Hives are named like MR-03.',
  offers: [
    wrapFunctions(formulas, { types: new URL('./hives.ts', import.meta.url) }),
    moveHive,
    seasonReport,
    writeSummary,
    overview,
    mark,
    hiveRecord,
    inspectionSummary,
    lotLabel,
    beforeWinter,
  ],
});
export default server;
