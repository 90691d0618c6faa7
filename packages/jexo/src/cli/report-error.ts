import { catalogue, isJexoError, JexoError, messageOf } from '../errors.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import { note, onErr, printJson, symbols } from './terminal.js';

/** The exit code of a fault of our own (EX_SOFTWARE of sysexits). */
const internalFault = 70;

/** Prints an error in the three parts a person needs: what happened, where, what to do next. Gives the exit code. */
export function reportError(error: unknown, asJson: boolean): number {
  const known = isJexoError(error) ? error : error instanceof RpcError ? refusedByServer(error) : undefined;
  if (known === undefined) {
    if (asJson) printJson(JSON.stringify({ error: { code: 'JEXO_INTERNAL', message: messageOf(error) } }));
    else
      note(
        `${onErr('brick', symbols.failed)} ${messageOf(error)}\n  This is a fault of jexo itself. Run it again with JEXO_DEBUG=1 to see where it happened, and report it.`,
      );
    if (process.env.JEXO_DEBUG && error instanceof Error) note(error.stack ?? '');
    return internalFault;
  }
  if (asJson) printJson(JSON.stringify({ error: known }));
  else {
    note(`${onErr('brick', symbols.failed)} ${known.message} ${onErr('quiet', `(${known.code})`)}`);
    if (known.next !== '') note(`  ${known.next}`);
    if (process.env.JEXO_DEBUG) note(known.stack ?? '');
  }
  return catalogue[known.code].exit;
}

function refusedByServer(error: RpcError): JexoError {
  return new JexoError('JEXO_REMOTE', `The server refused: ${error.message}${pagesIn(error)}`, {
    data: { code: error.code, data: error.data },
  });
}

/** Pages a person has to visit before a call can be made, each on a line. */
function pagesIn({ code, data }: RpcError): string {
  const wanted =
    code === errorCodes.urlElicitationRequired ? (data as { elicitations?: { url?: unknown }[] } | undefined)?.elicitations : undefined;
  return (Array.isArray(wanted) ? wanted : [])
    .map(({ url }) => (typeof url === 'string' ? `\n  Visit first, then call again: ${url}` : ''))
    .join('');
}
