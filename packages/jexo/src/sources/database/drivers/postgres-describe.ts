import type { Client, FieldDef } from 'pg';
import type { Described } from '../driver.js';
import { postgresType, type PostgresTypes } from './postgres-types.js';

/** The parts of a connection that parse and describe (PostgreSQL, "Extended Query"). */
interface Wire {
  parse(query: { text: string; name: string; types: readonly number[] }): void;
  describe(what: { type: 'S'; name: string }): void;
  sync(): void;
  once(event: 'parameterDescription', take: (message: { dataTypeIDs: readonly number[] }) => void): void;
  removeListener(event: 'parameterDescription', take: (message: { dataTypeIDs: readonly number[] }) => void): void;
}

/** Parses a statement and asks what it takes and answers, without running it. */
export async function describePostgres(client: Client, sql: string, types: PostgresTypes): Promise<Described> {
  const { fields, parameters } = await describeWire(client, sql);
  const origins = fields.filter(({ tableID, columnID }) => tableID > 0 && columnID > 0);
  const required = new Set<string>();
  if (origins.length > 0) {
    const { rows } = await client.query(
      'select attrelid::int as t, attnum as c from pg_attribute where attnotnull and attrelid = any($1::oid[])',
      [[...new Set(origins.map(({ tableID }) => tableID))]],
    );
    for (const { t, c } of rows as { t: number; c: number }[]) required.add(`${t} ${c}`);
  }
  // What an outer join brings may be missing, whatever its table says.
  const mayMiss = /\b(?:left|right|full)\s+(?:outer\s+)?join\b|\b(?:cube|rollup|grouping\s+sets)\b|\bunion\b/i.test(sql);
  return {
    columns: fields.map(({ name, dataTypeID, dataTypeModifier, tableID, columnID }) => ({
      name,
      type: postgresType(dataTypeID, dataTypeModifier, types),
      nullable: mayMiss || !required.has(`${tableID} ${columnID}`),
    })),
    parameters: parameters.map((oid) => postgresType(oid, -1, types)),
  };
}

function describeWire(client: Client, sql: string): Promise<{ fields: readonly FieldDef[]; parameters: readonly number[] }> {
  return new Promise((resolve, reject) => {
    let fields: readonly FieldDef[] = [];
    let parameters: readonly number[] = [];
    let failed: Error | undefined;
    const take = ({ dataTypeIDs }: { dataTypeIDs: readonly number[] }) => (parameters = dataTypeIDs);
    let wire: Wire;
    const query = {
      submit(connection: Wire) {
        wire = connection;
        connection.once('parameterDescription', take);
        connection.parse({ text: sql, name: '', types: [] });
        connection.describe({ type: 'S', name: '' });
        connection.sync();
      },
      handleRowDescription(message: { fields: readonly FieldDef[] }) {
        fields = message.fields;
      },
      handleError(error: Error) {
        failed = error;
        wire.removeListener('parameterDescription', take);
        reject(error);
      },
      handleReadyForQuery() {
        if (failed === undefined) resolve({ fields, parameters });
      },
      handleDataRow() {},
      handleCommandComplete() {},
      handlePortalSuspended() {},
      handleEmptyQuery() {},
    };
    client.query(query as never);
  });
}
