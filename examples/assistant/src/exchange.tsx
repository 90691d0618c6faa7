import type { Step } from 'jexo';
import Markdown from 'react-markdown';
import remarkGfm from 'remark-gfm';
import type { Exchange, Host } from './host.js';
import { ToolView } from './view.js';

const ends: Readonly<Record<string, string>> = {
  cancelled: 'Stopped.',
  refused: 'The model refuses.',
  steps: 'The model was asked as often as is allowed, and has not come to an end.',
  calls: 'As many calls were made as are allowed.',
  time: 'The time is over.',
  tokens: 'The tokens are used up.',
  failed: 'The model could not be used.',
};

/** One request: what was asked, each call as it went, and the answer. */
export function ExchangeView({
  exchange: { request, steps, writing, ended, error, by },
  doing,
  host,
}: {
  exchange: Exchange;
  host: Host;
  /** What it is doing now; undefined when it is over. */
  doing: 'working' | 'waiting' | undefined;
}) {
  const why = ended === undefined ? undefined : ends[ended];
  const last = steps.findLast((step) => step.kind === 'moved');
  return (
    <article>
      <h2 className={`asked ${by === undefined ? '' : 'by-view'}`}>
        {by !== undefined && <span className="quiet">From the page of {by}: </span>}
        {request}
      </h2>
      {steps.map((step) => {
        if (step.kind === 'moved' && step.text !== undefined && step !== last)
          return (
            <p key={step.n} className="quiet said">
              {step.text}
            </p>
          );
        if (step.kind === 'approval') return <CallView key={step.n} call={step} steps={steps} host={host} />;
        if (step.kind === 'trouble' || step.kind === 'shortened')
          return (
            <p key={step.n} className="note warn">
              {step.kind === 'trouble' ? `${step.where}: ${step.why}` : step.why}
            </p>
          );
        return null;
      })}
      {(writing !== '' || last?.text !== undefined) && (
        <div className="answer">
          <Markdown remarkPlugins={[remarkGfm]}>{writing || (last?.text ?? '')}</Markdown>
        </div>
      )}
      {doing !== undefined && (
        <p className="quiet" role="status">
          {doing === 'waiting' ? 'It waits for you.' : steps.at(-1)?.kind === 'asked' ? 'Thinking…' : 'Working…'}
        </p>
      )}
      {why !== undefined && (
        <p className="note warn">
          {why} {error}
        </p>
      )}
    </article>
  );
}

type Approval = Step & { readonly kind: 'approval' };

function CallView({ call, steps, host }: { call: Approval; steps: readonly Step[]; host: Host }) {
  const result = steps.find((step) => step.kind === 'result' && step.id === call.id);
  const progress = steps.findLast((step) => step.kind === 'progress' && step.id === call.id);
  const isOver = result?.kind === 'result';
  const sign = !call.approved ? 'not called' : !isOver ? 'running' : result.failed ? 'failed' : 'done';
  const shown = isOver && result.result !== undefined && !result.failed ? result.result : undefined;
  return (
    <>
      <details className={`call ${sign.replace(' ', '-')}`}>
        <summary>
          <span className="sign" aria-hidden="true">
            {{ 'not called': '–', running: '→', failed: '✗', done: '✓' }[sign]}
          </span>
          <code>{call.name}</code>
          <span className="quiet">
            {call.server} {call.approved ? '' : `: ${call.why ?? 'you said no.'}`}
          </span>
          <span className="quiet end">{isOver ? `${sign}, ${Math.round(result.tookMs)} ms` : sign}</span>
        </summary>
        <p className="label">Input</p>
        <pre>{JSON.stringify(call.input, null, 2)}</pre>
        {isOver && (
          <>
            <p className="label">What the model was given{result.cutFrom === undefined ? '' : ` of ${result.cutFrom} characters`}</p>
            <pre>{result.text}</pre>
          </>
        )}
        {!isOver && progress?.kind === 'progress' && (
          <p className="progress">
            <progress value={progress.progress} max={progress.total ?? undefined} aria-label={`Progress of ${call.name}`} />
            <span className="quiet">{progress.message}</span>
          </p>
        )}
      </details>
      {shown !== undefined && <ToolView host={host} name={call.name} input={call.input} result={shown} />}
    </>
  );
}
