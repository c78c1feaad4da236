/** Who is asking, as the page itself says: known before anything is drawn. */
export interface Session {
  /** Whether this Varlen has accounts; without them whoever uses the machine may do everything. */
  sign_in: boolean;
  name: string;
  role: "" | "viewer" | "editor" | "admin";
}

const EVERYTHING: Session = { sign_in: false, name: "", role: "admin" };

function readSession(): Session {
  const said = globalThis.document?.querySelector<HTMLMetaElement>('meta[name="varlen-session"]')?.content;
  return said ? JSON.parse(said) : EVERYTHING;
}

export const session: Session = readSession();

/** What this person may do; the server decides, the screens only don't offer the rest. */
export const may = {
  edit: session.role === "editor" || session.role === "admin",
  administer: session.role === "admin",
};

export const ROLES: Record<"viewer" | "editor" | "admin", string> = {
  viewer: "viewer: see everything, change nothing",
  editor: "editor: pipelines, datasets, editions",
  admin: "admin: also delete, and manage people",
};

/** After “you may”. */
export const SAY_MAY: Record<keyof typeof ROLES, string> = {
  viewer: "see everything and change nothing",
  editor: "work with pipelines, datasets and editions",
  admin: "do everything, also delete and manage people",
};

/** “, by luna”, or nothing where nobody signs in. */
export const byWhom = (name: string | undefined) => (name ? `, by ${name}` : "");
