import type { Trouble } from './model';

/** What happened, where, and the next step, in that order. */
export function TroubleNote({ trouble }: { trouble: Trouble }) {
  return (
    <div className="trouble" role="alert">
      <p className="what">{trouble.message}</p>
      {trouble.where && <p className="quiet">at {trouble.where}</p>}
      {trouble.next && <p>{trouble.next}</p>}
      <code className="quiet">{trouble.code}</code>
    </div>
  );
}
