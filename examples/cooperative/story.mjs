// The part of the demo's story that needs a client with a person and a model behind it: questions, progress, tasks,
// sampling, subscriptions. The person is played by fixed answers.
import { connect } from 'jexo';
import { standInModel } from './stand-in-model.mjs';

/** Tells it over the server at `address`, printing each step. */
export async function tellStory(address, print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const client = await connect(address, {
    info: { name: 'apiary-desk', version: '1.0.0' },
    elicitation: {
      form({ message, requestedSchema }) {
        const fields = Object.keys(requestedSchema.properties);
        const content = fields.includes('to') ? { to: 'SM' } : {};
        line('?', `${message}  ${fields.length > 0 ? JSON.stringify(content) : 'yes'}`);
        return { action: 'accept', content };
      },
    },
    sampling: { create: standInModel },
  });
  try {
    print('\nResources are read, by URI or by a template whose variables complete themselves:');
    for (const { uri, name } of (await client.resources()).slice(0, 3)) line('·', `${uri}  ${name}`);
    const { values, total } = await client.complete({ type: 'ref/resource', uri: 'hive://{hive}' }, { name: 'hive', value: 'mr' });
    line('·', `hives that fit "mr": ${values.slice(0, 4).join(', ')} … (${total})`);
    const [record] = (await client.read('hive://MR-03')).contents;
    const { queen, strength, apiary } = JSON.parse(record.text);
    line('←', `MR-03: queen of ${queen.year}, marked ${queen.colour}, ${strength} frames of brood, at ${apiary}`);

    print('\nPrompts are rendered, and their arguments complete with what is already known:');
    const known = await client.complete({ type: 'ref/prompt', name: 'before_winter' }, { name: 'hive', value: '' }, { apiary: 'QB' });
    line('·', `hives of QB: ${known.values.slice(0, 3).join(', ')} …`);
    const label = await client.prompt('lot_label', { lot: 'H-204', language: 'fr' });
    line('←', label.messages[0].content.text);

    print('\nA tool asks for what is missing, and to be sure; whoever watches the hive is told:');
    let told;
    const changed = new Promise((resolve) => (told = resolve));
    const unwatch = await client.watch('hive://MR-03', told);
    const moved = await client.call(
      'move_hive',
      { hive: 'MR-03' },
      { onProgress: ({ progress, total: all, message }) => line('…', `${progress} of ${all}: ${message}`) },
    );
    line('←', moved.content[0].text);
    line('←', `changed: ${await changed}`);
    await unwatch();
    await client.call('move_hive', { hive: 'MR-03', to: 'MR' });

    print('\nLong work runs as a task: started, polled, its result fetched later:');
    await client.tools();
    const task = await client.callAsTask('season_report', {}, { ttlMs: 60_000 });
    line('→', `started; the server keeps it for ${(await task.status()).ttl / 1000} s`);
    const ended = await task.poll(() => {});
    line('·', `status: ${ended.status}`);
    const { structuredContent: report } = await task.result();
    for (const row of report.apiaries) line('←', `${row.apiary.padEnd(12)} ${row.gainKg} kg gained, best ${row.bestHive}`);
    const again = await client.callAsTask('season_report');
    line('·', `another one, cancelled: ${(await again.cancel()).status}`);

    print('\nA tool has the client’s own model write (here a stand-in, which says that it is one):');
    line('←', (await client.call('write_summary', { hive: 'UC-02' })).structuredContent.summary);
  } finally {
    await client.close();
  }
}
