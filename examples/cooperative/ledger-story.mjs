// The part of the demo's story about GraphQL: operations of the honey ledger are tools, and a model may ask by itself.
import { fileURLToPath } from 'node:url';
import { connect, defineServer, wrapGraphql } from 'jexo';
import { startLedger } from './ledger/server.mjs';

const here = (path) => fileURLToPath(new URL(path, import.meta.url));

export async function tellLedgerStory(print = console.log) {
  const line = (sign, text) => print(`  ${sign} ${text}`);
  const service = await startLedger();
  const ledger = defineServer({
    name: 'ledger',
    version: '1.0.0',
    offers: [
      wrapGraphql(here('./ledger/ledger.graphql'), { operations: here('./ledger/operations'), endpoint: service.url, explore: true }),
    ],
  });
  const client = await connect(ledger, {
    elicitation: {
      form({ message }) {
        line('?', `${message}  yes`);
        return { action: 'accept', content: {} };
      },
    },
  });
  try {
    print('\nA GraphQL service: each operation of a folder is a tool, and pages are followed:');
    const { lots } = (await client.call('list_lots', { filter: { honey: 'FOREST' }, first: 2, pages: 2 })).structuredContent;
    line(
      '←',
      `${lots.nodes.length} of ${lots.totalCount} lots of forest honey, in two pages: ${lots.nodes.map(({ id }) => id).join(', ')}`,
    );
    const { fillJars } = (await client.call('fill_jars', { lot: 'H-208', jars: [{ grams: 500, count: 60 }] })).structuredContent;
    line('←', `fill_jars: ${fillJars.id} holds ${fillJars.kilograms} kg now`);
    const ask = async (document) => {
      line('→', document);
      const { isError, content } = await client.call('query_ledger', { document });
      line(isError ? '✗' : '←', content[0].text);
    };
    await ask('{ lot(id: "H-205") { moistur } }');
    await ask('{ lot(id: "H-205") { moisture } }');
  } finally {
    await client.close();
    await ledger.close();
    await service.stop();
  }
}
