import { Button } from 'react-aria-components';
import type { Difference, Replayed } from './model';
import { duration } from './words';
import { counted } from './counted';

/** What became of each call of a sheet: what was wanted beside what came. */
export function ReplayedList({ done, onOnly }: { done: Replayed; onOnly: (name: string) => void }) {
  const wrong = done.calls.filter(({ status }) => status === 'different').length;
  return (
    <>
      <p role="status" className={wrong === 0 ? 'outcome answered' : 'outcome failed'}>
        {done.calls.length - wrong} of {counted(done.calls.length, 'call')} answered as kept
        {done.updated.length > 0 && `; updated: ${done.updated.join(', ')}`}
      </p>
      <ol className="replayed">
        {done.calls.map((call) => (
          <li key={call.name}>
            <p className="head">
              <span className={call.status === 'as kept' ? 'outcome answered' : 'outcome failed'}>
                <span aria-hidden="true">{call.status === 'as kept' ? '✓' : '✗'}</span>
                <span className="unseen">{call.status}</span>
              </span>{' '}
              <strong>{call.name}</strong> {call.name !== call.subject && <code className="quiet">{call.subject}</code>}{' '}
              <span className="quiet">{duration(call.tookMs)}</span>
              {call.status === 'different' && (
                <Button className="plain small" onPress={() => onOnly(call.name)}>
                  Only this one
                </Button>
              )}
            </p>
            {call.wrong.map(({ message, differences }) => (
              <div key={message} className="wrong-part">
                <p>{message}</p>
                {differences && differences.length > 0 && <Differences found={differences} />}
              </div>
            ))}
          </li>
        ))}
      </ol>
    </>
  );
}

function Differences({ found }: { found: readonly Difference[] }) {
  const show = (value: unknown) => (value === undefined ? '(nothing)' : typeof value === 'string' ? value : JSON.stringify(value));
  return (
    <table className="differences">
      <thead>
        <tr>
          <th scope="col">where</th>
          <th scope="col">on the sheet</th>
          <th scope="col">came</th>
        </tr>
      </thead>
      <tbody>
        {found.map(({ path, before, after }) => (
          <tr key={path}>
            <td>
              <code>{path === '' ? '(the whole)' : path}</code>
            </td>
            <td className="before">{show(before)}</td>
            <td className="after">{show(after)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
