import type { Server } from '../offers/define-server.js';
import { toolOf } from '../offers/catalogue.js';
import type { ToolOffer } from '../offers/offer.js';
import { estimateTokens } from '../models/tokens.js';
import { reportOmitted, reportSettings } from './connect-target.js';
import { note, onErr, symbols } from './terminal.js';
import { counted } from '../protocol/counted.js';

/** Says what is served and where, on stderr: lines for people, or one of JSON. */
export async function announce(
  server: Server,
  where: string,
  next: string,
  asJson: boolean,
  more: Readonly<Record<string, unknown>> = {},
): Promise<void> {
  const { tools, omitted, excluded, settings, notes, whenTooMany } = await server.catalogue();
  const names = [...tools.keys()];
  if (asJson)
    return note(
      JSON.stringify({
        name: server.info.name,
        version: server.info.version,
        address: where,
        ...more,
        tools: names,
        omitted,
        excluded,
        settings,
        notes,
      }),
    );
  note(
    `${onErr('moss', symbols.ok)} ${onErr('bold', server.info.name)} ${server.info.version} is served over ${where === 'stdio' ? 'stdio' : `HTTP at ${onErr('lake', where)}`}`,
  );
  note(`  ${counted(names.length, 'tool')}: ${shortened(names)}`);
  if (excluded.length > 0) note(`  ${excluded.length} excluded as you chose: ${shortened(excluded)}`);
  for (const [what, value] of Object.entries(more)) note(`  ${what}: ${String(value)}`);
  for (const each of notes) note(`  ${each}`);
  reportOmitted(omitted);
  reportSettings(settings);
  reportLength(
    [...tools.values()].map(({ offer }) => offer),
    whenTooMany,
  );
  note(`  ${next}`);
}

/** More tools than this are told without counting what they cost: no model chooses well among them. */
const manyTools = 128;
/** A list that costs more tokens than this leaves a model little room for anything else. */
const manyTokens = 20_000;

function reportLength(tools: readonly ToolOffer[], whenTooMany = 'Offer fewer with --only.'): void {
  const tokens = tools.length > manyTools ? undefined : estimateTokens(tools.map(toolOf));
  if (tokens !== undefined && tokens <= manyTokens) return;
  const what =
    tokens === undefined
      ? `${tools.length} tools are too many`
      : `The list of tools takes ~${tokens.toLocaleString('en')} tokens, too long`;
  note(`${onErr('ochre', symbols.warn)} ${what} for most models to choose from. ${whenTooMany}`);
}

function shortened(names: readonly string[]): string {
  return names.length > 12 ? `${names.slice(0, 12).join(', ')} and ${names.length - 12} more` : names.join(', ');
}
