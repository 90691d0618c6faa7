// The honey ledger: a real GraphQL service of the cooperative, for the demo and the tests. Its lots are made up.
import { createServer } from 'node:http';
import { readFileSync } from 'node:fs';
import { createSchema, createYoga } from 'graphql-yoga';

const typeDefs = readFileSync(new URL('./ledger.graphql', import.meta.url), 'utf8');
const honeys = ['BLOSSOM', 'FOREST', 'HEATHER'];
const apiaries = ['MR', 'UC', 'SM', 'FH', 'QB', 'LM'];

function makeLots() {
  return Array.from({ length: 12 }, (_, index) => {
    const number = 212 - index;
    const day = String(28 - index * 2).padStart(2, '0');
    const tested = index > 1;
    return {
      id: `H-${number}`,
      honey: honeys[index % 3],
      apiary: apiaries[index % 6],
      extracted: `2026-08-${day}`,
      kilograms: 40 + ((index * 37) % 60),
      jars: index > 5 ? [{ grams: 500, count: 60 }] : [],
      findings: tested
        ? [
            { __typename: 'Moisture', id: `M-${number}`, measured: `2026-08-${day}`, percent: 16 + (index % 4) * 0.7 },
            {
              __typename: 'Pollen',
              id: `P-${number}`,
              measured: `2026-08-${day}`,
              mainPlant: ['lime', 'fir', 'heather'][index % 3],
              share: 45 + index,
            },
          ]
        : [],
      oldNumber: null,
    };
  });
}

/** Starts the ledger. @param token what callers must send as bearer token, if anything */
export async function startLedger({ port = 0, token } = {}) {
  const lots = makeLots();
  const waiting = new Set();
  const find = (id) => lots.find((lot) => lot.id === id);
  const schema = createSchema({
    typeDefs,
    resolvers: {
      Query: {
        lots(_root, { first, after, filter = {} }) {
          const all = lots.filter(
            (lot) =>
              (filter.honey == null || lot.honey === filter.honey) &&
              (filter.apiary == null || lot.apiary === filter.apiary) &&
              (filter.minKilograms == null || lot.kilograms >= filter.minKilograms),
          );
          const from = after == null ? 0 : all.findIndex((lot) => lot.id === after) + 1;
          const nodes = all.slice(from, from + first);
          return {
            nodes,
            totalCount: all.length,
            pageInfo: { hasNextPage: from + first < all.length, endCursor: nodes.at(-1)?.id ?? null },
          };
        },
        lot: (_root, { id }) => find(id) ?? null,
        finding: (_root, { id }) => lots.flatMap(({ findings }) => findings).find((each) => each.id === id) ?? null,
        buyers: () => [
          { id: 'B-1', kind: 'bakery' },
          { id: 'B-2', kind: 'market stall' },
        ],
      },
      Lot: { moisture: ({ findings }) => findings.find(({ percent }) => percent !== undefined)?.percent ?? null },
      Mutation: {
        fillJars(_root, { lot: id, jars }) {
          const lot = find(id);
          const needed = jars.reduce((sum, { grams, count }) => sum + (grams * count) / 1000, 0);
          if (lot === undefined) throw new Error(`There is no lot ${id}.`);
          if (needed > lot.kilograms) throw new Error(`The jars need ${needed} kg, and ${id} holds ${lot.kilograms}.`);
          lot.kilograms -= needed;
          lot.jars.push(...jars);
          return lot;
        },
      },
      Subscription: {
        lotTested: {
          subscribe: async function* () {
            for (;;) yield { lotTested: await new Promise((resolve) => waiting.add(resolve)) };
          },
        },
      },
    },
  });
  const yoga = createYoga({ schema, logging: false, landingPage: false, graphiql: false, maskedErrors: false });
  const server = createServer((request, response) => {
    if (token !== undefined && request.headers.authorization !== `Bearer ${token}`) {
      response.writeHead(401, { 'content-type': 'application/json' });
      response.end('{"message":"A token is needed."}');
      return;
    }
    yoga(request, response);
  });
  await new Promise((resolve) => server.listen(port, '127.0.0.1', resolve));
  return {
    url: `http://127.0.0.1:${server.address().port}/graphql`,
    schema,
    /** The lab tests a lot: whoever is subscribed hears of it. */
    test(id, percent) {
      const lot = find(id);
      lot.findings.unshift({ __typename: 'Moisture', id: `M-${id}-${lot.findings.length}`, measured: '2026-09-01', percent });
      const all = [...waiting];
      waiting.clear();
      for (const resolve of all) resolve(lot);
      return all.length;
    },
    async stop() {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}
