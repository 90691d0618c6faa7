import { mkdtempSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { JexoError, messageOf } from '../errors.js';
import type { Server } from '../offers/define-server.js';
import { connect } from '../targets/connect.js';
import type { Target } from '../targets/target-kind.js';
import { writeForTrial, type Artefact } from './artefact.js';
import { listingFromFile, listingOf, type Listing } from './compare.js';

/** Starting a packed server takes no longer. */
const startMs = 20_000;

/**
 * Starts what was packed in a new folder, with nothing of this environment but where programs are, and asks it what it offers.
 *
 * @throws JexoError JEXO_PACK when it does not start, or offers something else than its target
 */
export async function tryArtefact(artefact: Artefact, expected: readonly string[], packages: readonly string[]): Promise<void> {
  if (artefact.start === undefined) return;
  // A package that is installed where the server runs is not here.
  if (packages.length > 0) return;
  const folder = mkdtempSync(join(tmpdir(), 'jexo-try-'));
  try {
    writeForTrial(artefact, folder);
    const { tools } = await listTarget([process.execPath, join(folder, artefact.start)], folder);
    const names = tools.map(({ name }) => name);
    const missing = expected.filter((name) => !names.includes(name));
    if (missing.length > 0) throw new Error(`it does not offer ${missing.join(', ')}`);
  } catch (error) {
    throw new JexoError('JEXO_PACK', `What was packed does not work where nothing else is: ${messageOf(error)}`, {
      where: artefact.start,
      next: 'Nothing was written. Look for what it reads from this machine: files by their paths, variables, a working directory.',
      cause: error,
    });
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

/**
 * What was offered earlier: by a packed server, which is started; or as a list or a wire log says.
 *
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_TARGET_UNKNOWN when the file is none of these, JEXO_SYNTAX
 */
export async function listArtefact(file: string): Promise<Listing> {
  if (statSync(file, { throwIfNoEntry: false })?.isFile() !== true)
    throw new JexoError('JEXO_TARGET_MISSING', `There is no file ${JSON.stringify(file)} to compare with.`, {
      where: file,
      next: 'Give a packed server (.mjs), what jexo list --json prints, or a wire log (.jsonl).',
    });
  const listed = listingFromFile(file);
  if (listed !== undefined) return listed;
  if (/\.[cm]?js$/.test(file)) return listTarget([process.execPath, file]);
  throw new JexoError('JEXO_TARGET_UNKNOWN', `${file} is no packed server, no list and no wire log.`, {
    where: file,
    next: 'Give a packed server (.mjs), what jexo list --json prints, or a wire log (.jsonl).',
  });
}

/** What a server offers. @param folder its working directory; undefined for a target of any kind */
export async function listTarget(target: Target, folder?: string): Promise<Listing> {
  const client = await connect(target, {
    timeoutMs: startMs,
    views: true,
    ...(folder !== undefined && { cwd: folder, env: {} }),
  });
  try {
    return await listingOf(client);
  } finally {
    await client.close();
  }
}

/** What a server of this process offers. */
export async function listServer(server: Server): Promise<Listing> {
  const client = await connect(server, { views: true });
  try {
    return await listingOf(client);
  } finally {
    await client.close();
  }
}
