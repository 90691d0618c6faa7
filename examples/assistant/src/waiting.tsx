import { useEffect, useRef, useState } from 'react';
import { initialValues, QuestionFields, readValues, type FieldValues } from './fields.js';
import type { Waiting } from './host.js';

/** What waits for the person: an approval, a question of a server, a page to visit, a request for the model. */
export function WaitingView({ waiting }: { waiting: Waiting }) {
  const card = useRef<HTMLDivElement>(null);
  useEffect(() => void card.current?.focus(), []);
  const [title, body] =
    waiting.kind === 'approval'
      ? ([`Call ${waiting.request.tool.label}?`, <ApprovalBody key="a" {...waiting} />] as const)
      : waiting.kind === 'form'
        ? ([`${waiting.question.asker.server} asks`, <FormBody key="f" {...waiting} />] as const)
        : waiting.kind === 'page'
          ? ([`${waiting.question.asker.server} sends you to a page`, <PageBody key="p" {...waiting} />] as const)
          : ([`${waiting.server} asks your model`, <ConsentBody key="c" {...waiting} />] as const);
  return (
    <div className={`waiting ${waiting.kind}`} role="group" aria-label={title} tabIndex={-1} ref={card}>
      <h2>{title}</h2>
      {body}
    </div>
  );
}

type Of<K extends Waiting['kind']> = Waiting & { readonly kind: K };

function ApprovalBody({ request: { tool, input, changedFrom }, answer }: Of<'approval'>) {
  const { annotations, description } = tool;
  const kind =
    annotations?.readOnlyHint === true
      ? 'It says that it only reads.'
      : annotations?.destructiveHint === false
        ? 'It says that it only adds.'
        : 'It may change or delete something.';
  return (
    <>
      <p className="quiet">
        {description?.split('\n')[0]} {kind}
      </p>
      {changedFrom !== undefined && (
        <div className="note warn">
          <p>Its definition has changed since you approved it.</p>
          <p>
            Before: <q>{changedFrom.description}</q>
          </p>
          <p>
            Now: <q>{description}</q>
          </p>
        </div>
      )}
      <dl>
        {Object.entries(input).map(([key, value]) => (
          <div key={key}>
            <dt>{key}</dt>
            <dd>{typeof value === 'string' ? value : JSON.stringify(value)}</dd>
          </div>
        ))}
      </dl>
      <div className="buttons">
        <button type="button" className="primary" onClick={() => answer('once')}>
          Call it
        </button>
        <button type="button" onClick={() => answer('tool')}>
          Always this tool
        </button>
        <button type="button" onClick={() => answer('session')}>
          All of {tool.server} for now
        </button>
        <button type="button" onClick={() => answer('no')}>
          No
        </button>
      </div>
    </>
  );
}

function FormBody({ question: { message, requestedSchema, asker }, answer }: Of<'form'>) {
  const [values, setValues] = useState<FieldValues>(() => initialValues(requestedSchema));
  const [issues, setIssues] = useState<Readonly<Record<string, string>>>({});
  return (
    <form
      noValidate
      onSubmit={(event) => {
        event.preventDefault();
        const read = readValues(requestedSchema, values);
        setIssues(read.issues);
        if (Object.keys(read.issues).length === 0) answer(read.content);
      }}
    >
      <p>{message}</p>
      {asker.tool !== undefined && <p className="quiet">for {asker.tool}</p>}
      <QuestionFields schema={requestedSchema} values={values} issues={issues} onChange={setValues} />
      <div className="buttons">
        <button type="submit" className="primary">
          Send
        </button>
        <button type="button" onClick={() => answer('decline')}>
          Decline
        </button>
        <button type="button" onClick={() => answer('cancel')}>
          Close
        </button>
      </div>
    </form>
  );
}

function PageBody({ question: { message, url, warnings }, answer }: Of<'page'>) {
  return (
    <>
      <p>{message}</p>
      <p>
        <code>{url}</code>
      </p>
      {warnings.map((each) => (
        <p key={each} className="note warn">
          {each}
        </p>
      ))}
      <div className="buttons">
        <a className="button primary" href={url} target="_blank" rel="noreferrer noopener" onClick={() => answer('accept')}>
          Visit it
        </a>
        <button type="button" onClick={() => answer('decline')}>
          Decline
        </button>
        <button type="button" onClick={() => answer('cancel')}>
          Close
        </button>
      </div>
    </>
  );
}

function ConsentBody({ text, answer }: Of<'consent'>) {
  return (
    <>
      <pre>{text}</pre>
      <div className="buttons">
        <button type="button" className="primary" onClick={() => answer(true)}>
          Let it ask
        </button>
        <button type="button" onClick={() => answer(false)}>
          No
        </button>
      </div>
    </>
  );
}
