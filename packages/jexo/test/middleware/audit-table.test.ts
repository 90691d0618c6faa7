import { audit, auditTable, connect, defineServer, tool, verifyAudit, type AuditEntry } from '../../src/index.js';
import { dialects, makeDatabase, on } from '../support/databases.js';

const made = 'create table jexo_audit (number bigint primary key, entry longtext not null)';

for (const dialect of dialects)
  on(dialect)(`an audit in a table of ${dialect}: several processes share it, and what was changed or removed shows`, async () => {
    const database = await makeDatabase(dialect, dialect === 'mysql' ? [made] : ['create table other (n integer)']);
    const tables = [auditTable<AuditEntry>(database.owner), auditTable<AuditEntry>(database.owner)];
    const servers = tables.map((table) =>
      defineServer({ name: 'x', version: '1', offers: [tool('weigh', { description: 'W.' }, () => '31 kg')], middleware: [audit(table)] }),
    );
    const clients = await Promise.all(servers.map((server) => connect(server)));
    try {
      const answers = await Promise.all(clients.flatMap((client) => Array.from({ length: 10 }, () => client.call('weigh'))));
      expect(answers.filter(({ isError }) => isError)).toEqual([]);
      const entries = await tables[0]!.read(1, 100);
      expect(entries.map(({ number, offer, outcome }) => [number, offer, outcome])).toEqual(
        Array.from({ length: 20 }, (_, index) => [index + 1, 'weigh', 'ok']),
      );
      expect(await verifyAudit(tables[1]!)).toBeUndefined();
      await database.run('delete from jexo_audit where number = 7');
      expect(await verifyAudit(tables[1]!)).toMatchObject({ line: 7, why: expect.stringContaining('missing') as string });
      await database.run(`update jexo_audit set entry = replace(entry, 'weigh', 'other') where number = 3`);
      expect(await verifyAudit(tables[1]!)).toEqual({ line: 3, why: 'it was changed' });
    } finally {
      await Promise.all([...clients, ...tables].map((each) => each.close()));
      await database.drop();
    }
  });

on('mysql')('where a table cannot be made, the error says how', async () => {
  const database = await makeDatabase('mysql', ['create table other (n integer)']);
  const table = auditTable<AuditEntry>(database.owner);
  try {
    await expect(table.last()).rejects.toMatchObject({ code: 'JEXO_AUDIT', next: `Make it once: ${made};` });
    await database.run(made);
    expect(await table.last()).toBeUndefined();
  } finally {
    await table.close();
    await database.drop();
  }
});

test('a call that cannot be recorded in a table fails, and the next one tries again', async () => {
  const table = auditTable<AuditEntry>('postgres://nobody@127.0.0.1:1/none');
  const server = defineServer({
    name: 'x',
    version: '1',
    offers: [tool('weigh', { description: 'W.' }, () => '31 kg')],
    middleware: [audit(table)],
  });
  const client = await connect(server, { onFault: () => undefined });
  for (let call = 0; call < 2; call++)
    expect(await client.call('weigh')).toMatchObject({
      isError: true,
      content: [{ text: expect.stringContaining('could not be recorded') as string }],
    });
  await client.close();
  expect(() => auditTable('x.sqlite', { table: 'a; drop table b' })).toThrow(expect.objectContaining({ code: 'JEXO_DEFINITION' }));
});
