import { useState } from 'react';
import { Button } from 'react-aria-components';
import { compare } from './api';
import type { CallSheet, Difference } from './model';
import { Outcome, Run } from './run';
import { counted } from './counted';

/** Earlier calls, a line each; any of them can be laid beside the latest. */
export function Earlier({
  latest,
  earlier,
  onOpen,
  onAgain,
}: {
  latest: CallSheet;
  earlier: readonly CallSheet[];
  onOpen: (uri: string) => void;
  onAgain: (call: CallSheet) => void;
}) {
  const [compared, setCompared] = useState<{ readonly call: CallSheet; readonly found: readonly Difference[] }>();
  return (
    <section className="earlier" aria-label="Earlier calls">
      {earlier.map((call) => (
        <details key={call.id}>
          <summary>
            <Outcome call={call} />
            <code className="given">{JSON.stringify(call.input)}</code>
          </summary>
          <p className="segments">
            <Button className="plain small" onPress={() => onAgain(call)}>
              Take these arguments
            </Button>
            {latest.status !== 'running' && (
              <Button
                className="plain small"
                onPress={() =>
                  void compare(call.id, latest.id).then(
                    (found) => setCompared({ call, found }),
                    () => setCompared(undefined),
                  )
                }
              >
                Compare with the latest
              </Button>
            )}
          </p>
          {compared?.call.id === call.id && <Comparison before={call} after={latest} found={compared.found} />}
          <Run call={call} onOpen={onOpen} />
        </details>
      ))}
    </section>
  );
}

const differenceMarks = { added: '+', removed: '−', changed: '≠' };

function Comparison({ before, after, found }: { before: CallSheet; after: CallSheet; found: readonly Difference[] }) {
  const show = (value: unknown) => (value === undefined ? '' : JSON.stringify(value));
  const inputs = JSON.stringify(before.input) === JSON.stringify(after.input) ? 'the same arguments' : 'other arguments';
  return (
    <div className="comparison" role="region" aria-label="Comparison">
      <p className="step">
        Against the latest answer, with {inputs}: {found.length === 0 ? 'no difference' : counted(found.length, 'difference')}
      </p>
      {found.length > 0 && (
        <table>
          <thead>
            <tr>
              <th scope="col">where</th>
              <th scope="col">this one</th>
              <th scope="col">the latest</th>
            </tr>
          </thead>
          <tbody>
            {found.map((each) => (
              <tr key={each.path} className={each.kind}>
                <td>
                  <span className="mark" aria-label={each.kind}>
                    {differenceMarks[each.kind]}
                  </span>{' '}
                  <code>{each.path === '' ? '(the whole)' : each.path}</code>
                </td>
                <td className="before">{show(each.before)}</td>
                <td className="after">{show(each.after)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
