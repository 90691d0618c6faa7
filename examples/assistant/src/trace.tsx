import { counted } from './counted';
import type { Step } from 'jexo';
import type { Exchange } from './host.js';

/** Everything that happened in a request, from its first moment to its last. */
export function TraceView({ exchange }: { exchange: Exchange | undefined }) {
  return (
    <aside className="trace" aria-label="Trace">
      <h2>Trace</h2>
      {exchange === undefined ? (
        <p className="quiet">What happens in a request is listed here, step by step.</p>
      ) : (
        <ol>
          {exchange.steps.filter(isShown).map((step) => (
            <li key={step.n} className={`step-${step.kind}`}>
              <time>{(step.at / 1000).toFixed(2)} s</time>
              <span>{wordsOf(step)}</span>
            </li>
          ))}
        </ol>
      )}
    </aside>
  );
}

const isShown = ({ kind }: Step) => kind !== 'progress' && kind !== 'text';
const deciders = { rule: 'a rule', earlier: 'an earlier approval', person: 'you', nobody: 'nobody' } as const;

function wordsOf(step: Step) {
  switch (step.kind) {
    case 'request':
      return 'You asked.';
    case 'asked':
      return `${step.model} is asked, with ${counted(step.tools.length, 'tool')}: ~${step.tokens} tokens.`;
    case 'moved':
      return step.calls.length === 0 ? 'It answers.' : `It wants ${step.calls.map(({ name }) => name).join(', ')}.`;
    case 'approval':
      return `${step.name}: ${step.approved ? 'approved' : 'not approved'} by ${deciders[step.by]}.`;
    case 'call':
      return `→ ${step.server}: ${step.ownName}`;
    case 'result':
      return `← ${step.name} ${step.failed ? 'failed' : 'answered'} in ${Math.round(step.tookMs)} ms: ${step.text.length} characters.`;
    case 'question':
      return `${step.server} asked: ${step.message} (${step.action})`;
    case 'generated':
      return `${step.server} asked for the model: ${step.agreed ? 'you agreed' : 'refused'}.`;
    case 'shortened':
    case 'trouble':
      return step.why;
    case 'ended':
      return `Ended: ${step.reason}. ${step.usage.isEstimated ? '~' : ''}${step.usage.inputTokens + step.usage.outputTokens} tokens.`;
    default:
      return '';
  }
}
