import type { Issue } from './model';

/** What is wrong with a value, by the path in it. `whole` names the value itself. */
export function IssueList({ issues, whole }: { issues: readonly Issue[]; whole: string }) {
  if (issues.length === 0) return null;
  return (
    <ul className="wrong issues" aria-label="What the schema does not allow">
      {issues.map((issue, index) => (
        <li key={index}>
          <code>{issue.path === '' ? whole : issue.path}</code>: {issue.expected}
          {issue.got !== 'nothing' && (
            <>
              ; got <code>{issue.got}</code>
            </>
          )}
        </li>
      ))}
    </ul>
  );
}
