import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { dirname } from 'node:path';
import { parse } from 'yaml';
import type { ApprovalRules, ApprovalStore, KeptApproval } from '../conversation/approvals.js';
import { approvals } from '../conversation/approvals.js';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';

/**
 * Keeps approvals in a file of JSON, by the server’s address and the tool, with the definition that was approved.
 * @throws JexoError JEXO_APPROVALS when the file cannot be read or written, or holds something else
 */
export function approvalFile(file: string): ApprovalStore {
  const read = async (): Promise<Record<string, KeptApproval>> => {
    let text: string;
    try {
      text = await readFile(file, 'utf8');
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return {};
      throw broken(file, messageOf(error), error);
    }
    let value: unknown;
    try {
      value = JSON.parse(text);
    } catch (error) {
      throw broken(file, `it is not JSON: ${messageOf(error)}`, error);
    }
    if (!isRecord(value)) throw broken(file, 'it is not a map of approvals');
    return Object.fromEntries(Object.entries(value).filter((each): each is [string, KeptApproval] => isApproval(each[1])));
  };
  return {
    get: async (key) => {
      const all = await read();
      return Object.hasOwn(all, key) ? all[key] : undefined;
    },
    async set(key, approval) {
      // Read again: another conversation may have written meanwhile.
      const text = `${JSON.stringify({ ...(await read()), [key]: approval }, null, 2)}\n`;
      const beside = `${file}.${process.pid}.tmp`;
      try {
        await mkdir(dirname(file), { recursive: true });
        await rm(beside, { force: true });
        await writeFile(beside, text, { mode: 0o600, flag: 'wx' });
        await rename(beside, file);
        if ((await readFile(file, 'utf8')) !== text) throw new Error('it does not hold what was written');
      } catch (error) {
        throw broken(file, messageOf(error), error);
      }
    },
  };
}

const broken = (file: string, why: string, cause?: unknown) =>
  new JexoError('JEXO_APPROVALS', `The approvals in ${file} cannot be used: ${why}.`, { where: file, cause });

function isApproval(value: unknown): value is KeptApproval {
  return isRecord(value) && typeof value.hash === 'string' && typeof value.isForAll === 'boolean' && isRecord(value.definition);
}

const lists = ['allow', 'ask', 'refuse'] as const;

/**
 * Reads rules for approvals: a file of YAML or JSON with `allow`, `ask` and `refuse`, each a list.
 * @throws JexoError JEXO_APPROVALS, which names the rule that is wrong
 * @example
 * # chat.rules.yaml
 * allow: [read-only, 'tag:lab']
 * ask: [destructive]
 * refuse: ['server:registry']
 */
export async function readRules(file: string): Promise<ApprovalRules> {
  let value: unknown;
  try {
    value = parse(await readFile(file, 'utf8'));
  } catch (error) {
    throw broken(file, messageOf(error).split('\n')[0]!, error);
  }
  if (!isRecord(value)) throw broken(file, 'it has none of allow, ask and refuse');
  for (const [key, rules] of Object.entries(value)) {
    if (!lists.includes(key as 'allow')) throw broken(file, `${key} is not one of ${lists.join(', ')}`);
    if (!Array.isArray(rules) || rules.some((each) => typeof each !== 'string')) throw broken(file, `${key} is not a list of rules`);
    try {
      approvals({ [key]: rules as string[] });
    } catch (error) {
      throw broken(file, `${key}: ${messageOf(error).replace(/\.$/, '')}`, error);
    }
  }
  return value as ApprovalRules;
}
