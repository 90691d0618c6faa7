// The live feed: alderwick/<apiary>/<hive>/weight and …/sound, from a simulator with a seeded clock. It publishes to a broker that is
// running (JEXO_DEMO_BROKER), or starts one in this process and says so.
import { createServer } from 'node:net';
import { Aedes } from 'aedes';
import { connectAsync } from 'mqtt';

const hives = [
  ['MR', 'MR-01', 41.2],
  ['MR', 'MR-03', 38.6],
  ['UC', 'UC-04', 44.9],
  ['SM', 'SM-02', 52.7],
];
/** What the scales send is a number; what it means stands here. */
export const sounds = { 0: 'quiet', 1: 'humming', 2: 'fanning', 3: 'piping, a queen is about to leave' };

export const feedValues = {
  'alderwick/+/+/weight': { title: 'Weight of a hive', field: 'kg', unit: 'kg', staleAfter: 30 },
  'alderwick/+/+/sound': { title: 'Sound of a hive', words: sounds },
};

/** Starts the feed; gives the broker's address and how to stop. */
export async function startFeed({ everyMs = 1000, print = console.error } = {}) {
  let url = process.env.JEXO_DEMO_BROKER;
  let closeBroker = async () => undefined;
  if (url === undefined) {
    const broker = await Aedes.createBroker();
    const server = createServer(broker.handle);
    await new Promise((resolve) => server.listen(0, '127.0.0.1', resolve));
    url = `mqtt://127.0.0.1:${server.address().port}`;
    closeBroker = () => new Promise((resolve) => broker.close(() => server.close(resolve)));
    print(`The feed runs on a small broker in this process, at ${url}. Set JEXO_DEMO_BROKER to use another.`);
  }
  const client = await connectAsync(url, { protocolVersion: 4 });
  let random = 7;
  const chance = () => {
    random = (random * 1664525 + 1013904223) % 4294967296;
    return random / 4294967296;
  };
  const say = (topic, value) => client.publishAsync(topic, JSON.stringify(value), { retain: true, qos: 1 });
  const step = async () => {
    for (const hive of hives) {
      hive[2] = Math.round((hive[2] + (chance() - 0.45) * 0.1) * 100) / 100;
      await say(`alderwick/${hive[0]}/${hive[1]}/weight`, { kg: hive[2] });
      await say(`alderwick/${hive[0]}/${hive[1]}/sound`, Math.floor(chance() * 4));
    }
  };
  await step();
  const timer = setInterval(() => void step().catch(() => undefined), everyMs);
  timer.unref();
  return {
    url,
    async stop() {
      clearInterval(timer);
      await client.endAsync(true);
      await closeBroker();
    },
  };
}
