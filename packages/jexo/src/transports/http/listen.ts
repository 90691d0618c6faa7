import type { Server } from 'node:http';
import { JexoError } from '../../errors.js';

/**
 * Starts listening.
 * @throws JexoError JEXO_PORT_IN_USE, JEXO_ADDRESS
 */
export function listen(http: Server, port: number, host: string): Promise<void> {
  const where = `${host}:${port}`;
  return new Promise((resolve, reject) => {
    http.once('error', (error: NodeJS.ErrnoException) => {
      if (error.code === 'EADDRINUSE') {
        const next = `Choose another port (${port + 1}, say), or stop the program that holds ${port}.`;
        return reject(
          new JexoError('JEXO_PORT_IN_USE', `Port ${port} at ${host} is in use by another program.`, { where, next, cause: error }),
        );
      }
      const known: Partial<Record<string, string>> = {
        EADDRNOTAVAIL: 'it is not an address of this machine',
        ENOTFOUND: 'it is not an address of this machine',
        EACCES: 'ports below 1024 need special rights',
      };
      reject(
        new JexoError('JEXO_ADDRESS', `It is not possible to listen at ${where}: ${known[error.code ?? ''] ?? error.message}.`, {
          where,
          cause: error,
        }),
      );
    });
    http.listen(port, host, resolve);
  });
}
