import { rules, severities, type Finding, type Report, type Rule, type Seen } from './finding.js';
import { checkConfusable, checkSameDescription, checkSize } from './list-rules.js';
import { checkDescribed, checkTool } from './tool-rules.js';
import { checkViews } from './view-rules.js';
import { checkWords } from './word-rules.js';

const slowMs = 3000;

/** Judges what a server offers: for models, for hosts, for people. */
export async function checkServer(seen: Seen): Promise<Finding[]> {
  const found: Finding[] = [];
  const report: Report = (finding) => {
    const [kind, name] = finding.subject.split(' ');
    const where = finding.where ?? seen.places?.[`${kind} ${name}`];
    found.push({ ...finding, ...(where !== undefined && { where }) });
  };
  for (const tool of seen.tools) await checkTool(tool, report);
  for (const prompt of seen.prompts) checkDescribed(`prompt ${prompt.name}`, prompt.name, prompt.description, report);
  for (const { uri, title, description } of seen.resources)
    if (!description && !title) checkDescribed(`resource ${uri}`, uri, undefined, report);
  for (const template of seen.templates) checkDescribed(`template ${template.uriTemplate}`, template.name, template.description, report);
  checkConfusable(seen.tools, report);
  checkSameDescription(seen.tools, report);
  checkSize(seen, report);
  checkWords(seen, report);
  checkViews(seen.tools, seen.resources, seen.views ?? [], report);
  for (const omission of seen.omitted) {
    const { name, what, where, why, next, partial } = omission;
    report({
      rule: 'omitted',
      severity: partial ? 'note' : 'warning',
      subject: `${what} ${name}`,
      where,
      message: why,
      remedy: next,
    });
  }
  for (const { rule, subject, where, message, remedy } of seen.remarks ?? [])
    report({
      rule: rule in rules ? (rule as Rule) : 'remark',
      severity: 'note',
      subject,
      message,
      remedy,
      ...(where !== undefined && { where }),
    });
  for (const account of new Set(seen.deviations))
    report({
      rule: 'protocol',
      severity: 'error',
      subject: 'server',
      message: account,
      remedy: 'See the message on the trace: jexo inspect <target>',
    });
  for (const { kind, account } of new Map((seen.around ?? []).map((each) => [each.account, each])).values())
    report({
      rule: kind === 'stdout' ? 'stdout-noise' : 'wrong-headers',
      severity: 'error',
      subject: 'server',
      message: /[.!?]$/.test(account) ? account : `${account}.`,
      remedy:
        kind === 'stdout'
          ? 'Write everything else to stderr, including what libraries print.'
          : 'See the exchange with its headers: jexo inspect <target>',
    });
  if (seen.startMs !== undefined && seen.startMs > slowMs)
    report({
      rule: 'slow-start',
      severity: 'warning',
      subject: 'server',
      message: `It took ${(seen.startMs / 1000).toFixed(1)} seconds to be ready.`,
      remedy: 'Load what is heavy on first use, or pack the server: jexo pack.',
    });
  if (seen.changedSilently !== undefined && seen.changedSilently.length > 0)
    report({
      rule: 'silent-change',
      severity: 'error',
      subject: 'server',
      message: `The list of tools changed without a notification: ${seen.changedSilently.join(', ')}.`,
      remedy: 'Send notifications/tools/list_changed whenever the list changes, and declare tools.listChanged.',
    });
  return found.sort((a, b) => severities.indexOf(b.severity) - severities.indexOf(a.severity));
}
