import { useEffect, useRef, useState } from 'react';
import { Button } from 'react-aria-components';
import { reply, troubleOf } from './api';
import { MessageView } from './answer';
import type { Issue, Question, Trouble } from './model';
import { SchemaForm } from './schema-form';
import { initialInput, type Input } from './schema-shapes';
import { TroubleNote } from './trouble-note';

const titles: Record<Question['kind'], string> = {
  form: 'The server asks a person',
  page: 'The server sends a person to a page',
  sampling: 'The server asks for a model’s answer',
};
const ended: Record<Question['state'], string> = { open: '', answered: 'answered', declined: 'declined', withdrawn: 'withdrawn' };

/** The server, the tool and the task a question comes from: a person should know whom they answer. */
function askedBy({ server, tool, task }: Question['asker']): string {
  return [`Asked by ${server}`, ...(tool === undefined ? [] : [`tool ${tool}`]), ...(task === undefined ? [] : [`task ${task}`])].join(
    ', ',
  );
}

/** What the server asks, answered in the place where it came. */
export function QuestionCard({ question }: { question: Question }) {
  const [trouble, setTrouble] = useState<Trouble>();
  const [issues, setIssues] = useState<readonly Issue[]>();
  const answer = (given: object) =>
    void reply(question.id, given).then(
      (found) => setIssues(found.issues),
      (error: unknown) => setTrouble(troubleOf(error)),
    );
  // A question is brought into view when it comes: the server waits for it.
  const card = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (question.state === 'open') card.current?.scrollIntoView({ block: 'nearest' });
  }, [question.state]);
  return (
    <div className={`question ${question.state}`} role="group" aria-label={titles[question.kind]} ref={card}>
      <p className="step">
        {titles[question.kind]} {ended[question.state] && <strong>· {ended[question.state]}</strong>}
      </p>
      <p className="step">{askedBy(question.asker)}</p>
      {question.kind !== 'sampling' && <p className="asked">{question.message}</p>}
      {question.state !== 'open' ? (
        question.answer !== undefined && (
          <code>{typeof question.answer === 'string' ? question.answer : JSON.stringify(question.answer)}</code>
        )
      ) : question.kind === 'form' ? (
        <FormQuestion question={question} onAnswer={answer} issues={issues} />
      ) : question.kind === 'page' ? (
        <PageQuestion question={question} onAnswer={answer} />
      ) : (
        <SamplingQuestion question={question} onAnswer={answer} />
      )}
      {trouble && <TroubleNote trouble={trouble} />}
    </div>
  );
}

interface Part {
  readonly question: Question;
  readonly onAnswer: (given: object) => void;
}

function Refusals({ onAnswer }: Pick<Part, 'onAnswer'>) {
  return (
    <>
      <Button className="plain" onPress={() => onAnswer({ action: 'decline' })}>
        Decline
      </Button>
      <Button className="plain" onPress={() => onAnswer({ action: 'cancel' })}>
        Close
      </Button>
    </>
  );
}

/** An answer that its schema does not allow is marked here, and nothing is sent. */
function FormQuestion({ question, onAnswer, issues = [] }: Part & { readonly issues: readonly Issue[] | undefined }) {
  const schema = question.schema ?? {};
  const [content, setContent] = useState<Input>(() => initialInput(schema));
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        onAnswer({ action: 'accept', content });
      }}
      noValidate
    >
      <SchemaForm
        schema={schema}
        value={content}
        onChange={setContent}
        issues={issues}
        showAll
        empty="Accept or decline; there is nothing to fill in."
      />
      <div className="actions">
        <Button type="submit" className="primary">
          Accept
        </Button>
        <Refusals onAnswer={onAnswer} />
      </div>
    </form>
  );
}

/** The whole address is shown, and opened only when a person says so (Client features, "Elicitation", "URL Mode"). */
function PageQuestion({ question, onAnswer }: Part) {
  const safe = /^https?:\/\//i.test(question.url ?? '');
  return (
    <>
      <p>
        <code className="url">{question.url}</code>
      </p>
      {question.warnings?.map((warning) => (
        <p key={warning} className="warning">
          {warning}
        </p>
      ))}
      <div className="actions">
        {safe && (
          <a
            className="primary"
            href={question.url}
            target="_blank"
            rel="noopener noreferrer"
            onClick={() => onAnswer({ action: 'accept' })}
          >
            Open the page
          </a>
        )}
        <Refusals onAnswer={onAnswer} />
      </div>
    </>
  );
}

function SamplingQuestion({ question, onAnswer }: Part) {
  const [text, setText] = useState('');
  const { messages = [], systemPrompt, maxTokens } = question.request ?? {};
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        onAnswer({ action: 'accept', text });
      }}
    >
      {systemPrompt !== undefined && <p className="quiet">System: {systemPrompt}</p>}
      {messages.map((message, index) => (
        <MessageView key={index} message={message} onOpen={() => undefined} />
      ))}
      <textarea
        aria-label="The model’s answer, by hand"
        placeholder={`The answer, by hand; at most ${maxTokens} tokens`}
        rows={3}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <div className="actions">
        <Button type="submit" className="primary" isDisabled={text === ''}>
          Answer
        </Button>
        <Button className="plain" onPress={() => onAnswer({ action: 'accept', standIn: true })}>
          Let the stand-in answer
        </Button>
        <Button className="plain" onPress={() => onAnswer({ action: 'decline' })}>
          Refuse
        </Button>
      </div>
    </form>
  );
}
