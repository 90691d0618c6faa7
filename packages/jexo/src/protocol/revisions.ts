/** The published revisions of the protocol, oldest first. Compared as opaque tokens, never by order on the wire. */
export const revisions = ['2024-11-05', '2025-03-26', '2025-06-18', '2025-11-25'] as const;

/** A revision of the protocol that is spoken here. */
export type Revision = (typeof revisions)[number];

/** The revision that is asked for when nothing else is said. */
export const newestRevision: Revision = '2025-11-25';

/** What a server assumes over HTTP when nothing tells it the revision (Transports, "Protocol Version Header"). */
export const assumedHttpRevision: Revision = '2025-03-26';

export function isRevision(value: unknown): value is Revision {
  return (revisions as readonly unknown[]).includes(value);
}

/** True when `revision` is `from` or newer. */
export function since(revision: Revision, from: Revision): boolean {
  return revisions.indexOf(revision) >= revisions.indexOf(from);
}
