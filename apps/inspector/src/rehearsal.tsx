import { useEffect, useState } from 'react';
import { Button } from 'react-aria-components';
import { askModel, chooseTools, troubleOf } from './api';
import type { Candidate, ConnectionState, Move, Trouble } from './model';
import { choose, keepDraft, useStore } from './store';
import { TroubleNote } from './trouble-note';

const chooseAfterMs = 150;
const shownMost = 5;

/** A request in plain words: which tool the stand-in would choose, the runners-up, and why. */
// eslint-disable-next-line max-lines-per-function -- the markup of one place
export function Rehearsal({ connection, edits }: { connection: ConnectionState; edits: object }) {
  const [words, setWords] = useState('');
  const [found, setFound] = useState<readonly Candidate[]>();
  const [trouble, setTrouble] = useState<Trouble>();
  const asked = JSON.stringify(edits);
  useEffect(() => {
    if (words.trim() === '') return setFound(undefined);
    const gone = new AbortController();
    const timer = setTimeout(() => {
      chooseTools(connection.id, words, JSON.parse(asked) as object, gone.signal).then(
        (candidates) => {
          setFound(candidates);
          setTrouble(undefined);
        },
        (error: unknown) => gone.signal.aborted || setTrouble(troubleOf(error)),
      );
    }, chooseAfterMs);
    return () => {
      clearTimeout(timer);
      gone.abort();
    };
  }, [connection.id, words, asked]);
  const [best] = found ?? [];
  const toBench = ({ tool, input }: Pick<Candidate, 'tool' | 'input'>) => {
    const key = connection.shelf.find((item) => item.kind === 'tool' && item.key === tool)?.key ?? tool;
    keepDraft(`${connection.shown} tool ${key}`, { ...input });
    choose(connection, `tool ${key}`);
  };
  return (
    <section className="sheet rehearsal" aria-label="Rehearsal">
      <div className="field">
        <label className="step" htmlFor="rehearsed">
          Rehearse a request, in plain words
        </label>
        <input
          id="rehearsed"
          type="text"
          value={words}
          placeholder={`What would someone ask who needs ${connection.shelf.find(({ kind }) => kind === 'tool')?.key ?? 'this server'}?`}
          onChange={(event) => setWords(event.target.value)}
        />
        <p className="quiet about">
          A stand-in chooses. It is no model: it weighs the words that the request and a tool share. Names and descriptions you try out
          count.
        </p>
      </div>
      {trouble && <TroubleNote trouble={trouble} />}
      {found !== undefined && best === undefined && (
        <p role="status">
          No tool is chosen: none has enough of these words. A model may well do the same; put the words people use into a description.
        </p>
      )}
      {best !== undefined && (
        <div role="status">
          <p className="chosen">
            <code>
              {best.tool} {JSON.stringify(best.input)}
            </code>
            <Button className="plain small" onPress={() => toBench(best)}>
              Put it on the bench
            </Button>
          </p>
          {best.missing.length > 0 && <p className="warn">The request does not give {best.missing.join(', ')}.</p>}
          <table className="candidates">
            <thead>
              <tr>
                <th scope="col">tool</th>
                <th scope="col">weight</th>
                <th scope="col">because of</th>
              </tr>
            </thead>
            <tbody>
              {found!.slice(0, shownMost).map((each) => (
                <tr key={each.tool}>
                  <th scope="row">
                    <code>{each.tool}</code>
                  </th>
                  <td>
                    <span className="bar-track" aria-hidden="true">
                      <span className="bar" style={{ width: `${each.share * 100}%` }} />
                    </span>{' '}
                    {Math.round(each.share * 100)} %
                  </td>
                  <td>
                    {each.words.map(({ word, where }) => (
                      <span key={word} className="word" title={`in its ${where.join(' and ')}`}>
                        {word} <span className="quiet">{where.join(', ')}</span>
                      </span>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <AskModel key={`${connection.id} ${words} ${asked}`} connection={connection} words={words} edits={edits} onTake={toBench} />
    </section>
  );
}

/** What the model this bench was given would do about the same request. */
function AskModel({
  connection,
  words,
  edits,
  onTake,
}: {
  connection: ConnectionState;
  words: string;
  edits: object;
  onTake: (call: Pick<Candidate, 'tool' | 'input'>) => void;
}) {
  const model = useStore((store) => store.model);
  const [asking, setAsking] = useState<AbortController>();
  const [move, setMove] = useState<Move>();
  const [trouble, setTrouble] = useState<Trouble>();
  useEffect(() => () => asking?.abort(), [asking]);
  if (model === undefined || words.trim() === '') return null;
  const ask = async () => {
    const stop = new AbortController();
    setAsking(stop);
    setTrouble(undefined);
    setMove(undefined);
    try {
      setMove(await askModel(connection.id, words, edits, stop.signal));
    } catch (error) {
      if (!stop.signal.aborted) setTrouble(troubleOf(error));
    } finally {
      setAsking(undefined);
    }
  };
  return (
    <div className="ask-model">
      {asking ? (
        <>
          <Button className="plain" onPress={() => asking.abort()}>
            Stop
          </Button>
          <progress aria-label={`${model} is asked`} />
        </>
      ) : (
        <Button className="plain" onPress={() => void ask()}>
          Ask {model}
        </Button>
      )}
      {trouble && <TroubleNote trouble={trouble} />}
      {move && (
        <div role="status">
          {move.calls.length === 0 && <p>{model} calls no tool.</p>}
          {move.calls.map(({ name, input }, index) => (
            <p key={index} className="chosen">
              <code>
                {name} {JSON.stringify(input)}
              </code>
              <Button className="plain small" onPress={() => onTake({ tool: name, input })}>
                Put it on the bench
              </Button>
            </p>
          ))}
          {move.text && <p className="quiet">{move.text}</p>}
        </div>
      )}
    </div>
  );
}
