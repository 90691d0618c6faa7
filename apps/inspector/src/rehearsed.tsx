import type { Rehearsed } from './model';
import { counted } from './counted';

/** Which tool each request led to, and where they were confused. */
export function RehearsedList({ done }: { done: Rehearsed }) {
  const { requests, hits, confusion } = done;
  return (
    <>
      <p role="status" className={hits === requests.length ? 'outcome answered' : 'outcome failed'}>
        {hits} of {counted(requests.length, 'request')} led to the right tool
      </p>
      <Matrix {...confusion} />
      <ol className="replayed">
        {requests.map(({ say, line, hit, narrow, chosen = 'none', wanted, candidates, helpful, wrongInput }) => (
          <li key={line}>
            <p className="head">
              <span className={hit ? 'outcome answered' : 'outcome failed'}>
                <span aria-hidden="true">{hit ? '✓' : '✗'}</span>
                <span className="unseen">{hit ? 'right' : 'wrong'}</span>
              </span>{' '}
              {say} <code className="quiet">{chosen}</code>
              {narrow && <span className="warn"> {hit ? 'narrowly' : 'nearly right'}</span>}
            </p>
            {!hit && (
              <p>
                It should lead to <code>{wanted.join(' or ') || 'none'}</code>.
                {helpful && (
                  <>
                    {' '}
                    It would have, with {helpful.words.map((word) => `“${word}”`).join(', ')} in the description of{' '}
                    <code>{helpful.tool}</code>.
                  </>
                )}
              </p>
            )}
            {wrongInput.map(({ path, before, after }) => (
              <p key={path}>
                <code>{path}</code> should be <code>{JSON.stringify(before)}</code>; it was{' '}
                {after === undefined ? 'missing' : <code>{JSON.stringify(after)}</code>}.
              </p>
            ))}
            {!hit &&
              candidates.slice(0, 2).map(({ tool, share, words }) => (
                <p key={tool} className="quiet">
                  <code>{tool}</code> {Math.round(100 * share)} %:{' '}
                  {words.map(({ word, where }) => `${word} (${where.join(', ')})`).join(', ')}
                </p>
              ))}
          </li>
        ))}
      </ol>
    </>
  );
}

/** Rows are what was wanted, columns what was chosen: all is well when only the diagonal is filled. */
function Matrix({ tools, rows }: Rehearsed['confusion']) {
  const most = Math.max(1, ...rows.flat());
  return (
    <div className="scroll bare">
      <table className="matrix">
        <caption className="quiet">Wanted, by row, and chosen, by column</caption>
        <thead>
          <tr>
            <td />
            {tools.map((name) => (
              <th key={name} scope="col">
                <span>{name}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {tools.map((name, row) => (
            <tr key={name}>
              <th scope="row">{name}</th>
              {tools.map((column, at) => {
                const count = rows[row]![at]!;
                const kind = count === 0 ? 'empty' : row === at ? 'hit' : 'confused';
                return (
                  <td
                    key={column}
                    className={kind}
                    style={count === 0 ? undefined : { ['--depth' as string]: `${20 + Math.round((60 * count) / most)}%` }}
                    aria-label={`${name} led to ${column}: ${count}`}
                  >
                    {count === 0 ? '·' : kind === 'confused' ? `${count} ✗` : count}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
