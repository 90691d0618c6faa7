// The part of the demo's story about live values: a hive's weight is followed, and a controller's numbers are read as words.
import { connect, defineServer, wrapTopics } from 'jexo';
import { feedValues, startFeed } from './feed.mjs';
import plant from '../live-values/plant.mjs';

export async function tellLiveStory(print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const feed = await startFeed({ everyMs: 150, print: (text) => line('·', text.replace(/:\d+/, '')) });
  const scales = defineServer({
    name: 'feed',
    version: '1.0.0',
    offers: [wrapTopics(feed.url, { name: 'feed', topics: ['alderwick/#'], values: feedValues, everyMs: 100 })],
  });
  const client = await connect(scales);
  try {
    print('\nTopics of a broker are live values. One is followed for two updates:');
    const uri = 'feed://alderwick/MR/MR-01/weight';
    let heard = () => undefined;
    await client.watch(uri, () => heard());
    for (let update = 1; update <= 2; update++) {
      await new Promise((resolve) => (heard = resolve));
      const { value, unit, ageSeconds } = JSON.parse((await client.read(uri)).contents[0].text);
      line('←', `updated: MR-01 weighs ${value.toFixed(0)} ${unit}, ${ageSeconds < 5 ? 'just now' : `${ageSeconds} s ago`}`);
    }
    const { values } = (await client.call('read_values', { paths: ['alderwick/*/*/sound'] })).structuredContent;
    line('←', `${values.length} hives, their sound as a word: ${values.every(({ means }) => means !== undefined) ? 'yes' : 'no'}`);
  } finally {
    await client.close();
    await scales.close();
    await feed.stop();
  }
  const house = await connect(plant);
  try {
    print('\nA controller behind four functions is read the same way:');
    const { values } = (await house.call('read_values', { paths: ['heater/setpoint', 'pump1/state', 'alarm'] })).structuredContent;
    for (const { title, value, unit, means } of values) line('←', `${title}: ${means ?? `${value} ${unit}`}`);
  } finally {
    await house.close();
    await plant.close();
  }
}
