import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { Answer, Runs } from './answer';
import { KeepOnSheet } from './keep';
import type { CallEvent, CallSheet } from './model';
import { QuestionCard } from './questions';
import { TroubleNote } from './trouble-note';
import { useStore } from './store';
import { ViewFrame, viewOfTool } from './view-frame';
import { duration, outcomes } from './words';

/** How a call ended, in a word. */
export function Outcome({ call }: { call: CallSheet }) {
  const { mark, words } = outcomes[call.status];
  return (
    <span className={`outcome ${call.status}`}>
      <span aria-hidden="true">{mark}</span> {words}
      {call.tookMs !== undefined && ` in ${duration(call.tookMs)}`}
    </span>
  );
}

/** One call: what happened meanwhile, and the answer. */
export function Run({ call, onOpen }: { call: CallSheet; onOpen: (uri: string) => void }) {
  // The answer is brought into view when it comes; one that was there already is not.
  const answer = useRef<HTMLDivElement>(null);
  const awaited = useRef<number>(undefined);
  useEffect(() => {
    if (call.status === 'running') awaited.current = call.id;
    else if (awaited.current === call.id) {
      awaited.current = undefined;
      answer.current?.scrollIntoView({ block: 'start' });
    }
  }, [call.id, call.status]);
  const connection = useStore(({ connections }) => connections.find(({ id }) => id === call.connection));
  const isShown = call.kind === 'tool' && call.by === undefined && call.status !== 'failed' && call.status !== 'running';
  const uri = isShown && connection !== undefined ? viewOfTool(connection, call.name) : undefined;
  const last = call.events.findLast((event) => event.kind === 'progress');
  return (
    <div className="run" ref={answer}>
      <div className="step-line">
        <p className="step">{call.status === 'running' ? 'What is happening' : 'The answer'}</p>
        <span role="status">
          <Outcome call={call} />
        </span>
      </div>
      {call.item !== undefined && (
        <p className="quiet">
          <code>{call.name}</code>
        </p>
      )}
      {call.status === 'running' && last?.kind === 'progress' && (
        <progress aria-label="Progress" max={last.total ?? undefined} value={last.total === undefined ? undefined : last.progress} />
      )}
      {call.events.length > 0 && <Happened call={call} />}
      {call.runs && call.runs.length > 1 && <Runs runs={call.runs} times={call.times ?? call.runs.length} />}
      {call.trouble && !call.mismatch && <TroubleNote trouble={call.trouble} />}
      {uri !== undefined && connection !== undefined && <ViewFrame connection={connection} call={call} uri={uri} />}
      <Answer call={call} onOpen={onOpen} />
      {call.status !== 'running' && call.status !== 'cancelled' && <KeepOnSheet call={call} />}
    </div>
  );
}

const eventsShown = 8;

function Happened({ call }: { call: CallSheet }) {
  const [all, setAll] = useState(false);
  const events = all ? call.events : call.events.slice(-eventsShown);
  return (
    <ol className="happened">
      {call.events.length > events.length && (
        <li>
          <Button className="plain small" onPress={() => setAll(true)}>
            {call.events.length - events.length} earlier
          </Button>
        </li>
      )}
      {events.map((event, index) => (
        <Event key={index} event={event} />
      ))}
    </ol>
  );
}

function Event({ event }: { event: CallEvent }) {
  switch (event.kind) {
    case 'progress':
      return (
        <li className="quiet">
          {event.progress}
          {event.total !== undefined && ` of ${event.total}`} {event.message}
        </li>
      );
    case 'log':
      return (
        <li className={`log ${event.level}`}>
          <span className="level">{event.level}</span> {typeof event.data === 'string' ? event.data : JSON.stringify(event.data)}
        </li>
      );
    case 'task':
      return (
        <li className="quiet">
          task {event.task.status}
          {event.task.statusMessage && `: ${event.task.statusMessage}`} <code>{event.task.taskId}</code>
        </li>
      );
    case 'updated':
      return <li className="quiet">changed, and read again</li>;
    case 'question':
      return (
        <li>
          <QuestionCard question={event.question} />
        </li>
      );
  }
}
