import type { Schemas } from "../api/client";

export type RevisionLine = Schemas["RevisionLine"];

/** Changes that followed one another without a longer pause: the newest revision, and those it grew out of. */
export interface Session {
  last: RevisionLine;
  before: RevisionLine[];
}

const PAUSE_MS = 10 * 60_000;

/** Every change is saved by itself; those of one sitting belong together, but for named ones and the very first. Newest first. */
export function sessionsOf(revisions: readonly RevisionLine[]): Session[] {
  const found: Session[] = [];
  for (const revision of revisions) {
    const sitting = found.at(-1);
    const next = sitting?.before.at(-1) ?? sitting?.last;
    const soon = next && Date.parse(next.created) - Date.parse(revision.created) <= PAUSE_MS;
    if (sitting && soon && !revision.name && revision.number > 1) sitting.before.push(revision);
    else found.push({ last: revision, before: [] });
  }
  return found;
}
