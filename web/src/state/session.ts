/** Who is asking, as the page itself says: known before anything is drawn. */
export interface Session {
  /** Whether this Varlen has accounts; without them whoever uses the machine may do everything. */
  sign_in: boolean;
  name: string;
  role: "" | "look" | "work" | "keep";
}

const EVERYTHING: Session = { sign_in: false, name: "", role: "keep" };

function readSession(): Session {
  const said = globalThis.document?.querySelector<HTMLMetaElement>('meta[name="varlen-session"]')?.content;
  return said ? JSON.parse(said) : EVERYTHING;
}

export const session: Session = readSession();

/** What this person may do; the server decides, the screens only don't offer the rest. */
export const may = {
  work: session.role === "work" || session.role === "keep",
  keep: session.role === "keep",
};

export const ROLES: Record<"look" | "work" | "keep", string> = {
  look: "look: see everything, change nothing",
  work: "work: pipelines, datasets, editions",
  keep: "keep: also delete, and see to people",
};

/** After “you may”. */
export const SAY_MAY: Record<keyof typeof ROLES, string> = {
  look: "look at everything and change nothing",
  work: "work with pipelines, datasets and editions",
  keep: "do everything, also delete and see to people",
};

/** “, by luna”, or nothing where nobody signs in. */
export const byWhom = (name: string | undefined) => (name ? `, by ${name}` : "");
