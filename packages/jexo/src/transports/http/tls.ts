import { readFileSync, statSync } from 'node:fs';
import { createServer, type Server } from 'node:https';
import { createSecureContext } from 'node:tls';
import { JexoError, messageOf } from '../../errors.js';

/** The files of a certificate; PEM. */
export interface TlsFiles {
  /** The certificate, with those that lead to its root. */
  readonly cert: string;
  /** Its private key. */
  readonly key: string;
}

/** How often the files are looked at, in milliseconds. */
const lookEveryMs = 2000;

/**
 * A server for HTTPS. A certificate that was renewed is taken up by itself; one that cannot be read is reported, and the old one stays.
 * @throws JexoError JEXO_TLS
 */
export function createTlsServer(files: TlsFiles, maxHeaderSize: number, note: (text: string) => void): Server {
  let stamp = stampOf(files);
  const https = createServer({ ...read(files), maxHeaderSize });
  const look = () => {
    const next = stampOf(files);
    if (next === stamp) return;
    stamp = next;
    try {
      https.setSecureContext(read(files));
      note(`the certificate ${files.cert} was renewed`);
    } catch (error) {
      note(`${messageOf(error)} The one before is still used.`);
    }
  };
  const timer = setInterval(look, lookEveryMs).unref();
  https.on('close', () => clearInterval(timer));
  return https;
}

function read({ cert, key }: TlsFiles): { readonly cert: Buffer; readonly key: Buffer } {
  try {
    const found = { cert: readFileSync(cert), key: readFileSync(key) };
    createSecureContext(found);
    return found;
  } catch (error) {
    throw new JexoError('JEXO_TLS', `The certificate ${cert} with its key ${key} cannot be used: ${messageOf(error)}.`, {
      where: cert,
      cause: error,
    });
  }
}

const stampOf = (files: TlsFiles) =>
  [files.cert, files.key]
    .map((file) => statSync(file, { throwIfNoEntry: false }))
    .map((found) => (found === undefined ? '' : `${found.ino} ${found.mtimeMs} ${found.size}`))
    .join('\n');
