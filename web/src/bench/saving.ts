import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { useStore } from "zustand";
import { api, type PipelineDocument, Refusal, type Revision, take } from "../api/client";
import { askOpenPipeline } from "../api/queries";
import { dropDraft, keepDraft, openDocument, useDraft, wentThrough } from "../state/draft";
import { may } from "../state/session";

const MOST_SEED = 2 ** 31;

/** Other random numbers for everything. */
export function reshuffle(): void {
  useDraft.getState().change((document) => ({ ...document, seed: Math.floor(Math.random() * MOST_SEED) % 100_000 }));
}

/** A revision is made when the hand has rested for so long, or when something needs one. */
const REST_MS = 20_000;
const AGAIN_MS = 5000;

const revisionName = (revision: Revision) => `${revision.pipeline}/${revision.number}/${revision.digest}`;

export interface Saving {
  pipeline: number | null;
  revision: number | null;
  revisionId: number | null;
  state: string;
  openError: unknown;
  conflict: string | null;
  takeTheirs: () => void;
  keepMine: () => void;
  /** Make a revision of what is not saved yet, now. */
  flush: () => Promise<void>;
  /** Open the pipeline that is to be opened next; what is not saved of this one is saved first. */
  open: () => Promise<void>;
}

/** A revision the server has, and the document it was sent as. */
interface Saved {
  revision: Revision;
  document: PipelineDocument;
}

/** What a save came to, until the next one. */
type Trouble =
  | { kind: "none" }
  | { kind: "changed elsewhere"; message: string }
  | { kind: "refused"; document: PipelineDocument }
  | { kind: "no answer" };

const STRANDED = "The pipeline was changed elsewhere before your last changes were saved.";
const NO_TROUBLE: Trouble = { kind: "none" };

interface Opened {
  saved: Saved;
  trouble: Trouble;
}

/** Take up a revision as the draft. */
function opened(revision: Revision): Opened {
  const document = revision.document as unknown as PipelineDocument;
  const stranded = openDocument(document, revisionName(revision));
  return { saved: { revision, document }, trouble: stranded ? { kind: "changed elsewhere", message: STRANDED } : NO_TROUBLE };
}

/**
 * Opens a pipeline and saves every change as a revision; never over someone else's.
 *
 * One save at a time: the next stands on the revision that this one makes. What is not saved
 * yet is kept in the browser, so that going away at once loses nothing.
 */
export function useSaving(): Saving {
  const client = useQueryClient();
  // What was asked for early may be there before anything is drawn: then the bench is drawn once.
  const [first] = useState(() => {
    const brought = client.getQueryData(askOpenPipeline.queryKey);
    return brought ? opened(brought) : null;
  });
  const document = useDraft((draft) => draft.document);
  const history = useStore(useDraft.temporal, ({ pastStates, futureStates }) => pastStates.length + 1000 * futureStates.length);
  const [saved, setSaved] = useState<Saved | null>(first?.saved ?? null);
  const [busy, setBusy] = useState(false);
  const [trouble, setTrouble] = useState<Trouble>(first?.trouble ?? NO_TROUBLE);
  const asked = useQuery(askOpenPipeline);
  // Opened anew the next time: it may be another by then.
  useEffect(() => () => client.removeQueries(askOpenPipeline), [client]);
  const adopt = useCallback((revision: Revision) => {
    const { saved, trouble } = opened(revision);
    setSaved(saved);
    setTrouble(trouble);
  }, []);
  const taken = useRef(first?.saved.revision);
  useEffect(() => {
    if (!asked.data || asked.data === taken.current) return;
    taken.current = asked.data;
    adopt(asked.data);
  }, [asked.data, adopt]);

  const save = useCallback(async (pipeline: number, base: number, current: PipelineDocument): Promise<void> => {
    setBusy(true);
    try {
      const revision = await take(
        api.POST("/api/pipelines/{id}", { params: { path: { id: pipeline } }, body: { document: { ...current }, base } }),
      );
      setSaved({ revision, document: current });
      setTrouble(NO_TROUBLE);
    } catch (error) {
      const own = await ownRevision(error, pipeline);
      if (own !== null && own !== base) return save(pipeline, own, current);
      setTrouble(troubleOf(error, current));
    } finally {
      setBusy(false);
    }
  }, []);

  const unsaved = saved !== null && document !== saved.document;
  // biome-ignore lint/correctness/useExhaustiveDependencies: kept anew when the document or what can be undone has changed
  useLayoutEffect(() => {
    if (saved) keepDraft(revisionName(saved.revision), unsaved);
  }, [saved, unsaved, document, history]);

  useEffect(() => {
    if (!may.edit || !document || !saved || !unsaved || busy || trouble.kind === "changed elsewhere") return;
    if (trouble.kind === "refused" && trouble.document === document) return; // it would be refused again
    const { pipeline, number } = saved.revision;
    const timer = setTimeout(() => void save(pipeline, number, document), trouble.kind === "no answer" ? AGAIN_MS : REST_MS);
    return () => clearTimeout(timer);
  }, [document, saved, unsaved, busy, trouble, save]);

  const latestWork = useRef({ saved, unsaved });
  latestWork.current = { saved, unsaved };
  const flush = useCallback(async () => {
    const { saved, unsaved } = latestWork.current;
    const current = useDraft.getState().document;
    if (may.edit && saved && unsaved && current) await save(saved.revision.pipeline, saved.revision.number, current);
  }, [save]);
  // Leaving the page saves a revision.
  useEffect(() => {
    const leave = () => {
      const { saved, unsaved } = latestWork.current;
      const current = useDraft.getState().document;
      if (may.edit && saved && unsaved && current) sendLast(saved.revision, current);
    };
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, []);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "s") return;
      event.preventDefault();
      void flush();
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [flush]);
  const state = stateOf(unsaved, busy, trouble);
  return useMemo(() => {
    const latest = async () =>
      saved
        ? take(api.GET("/api/pipelines/{id}", { params: { path: { id: saved.revision.pipeline } } }))
        : Promise.reject(new Error("nothing open"));
    return {
      pipeline: saved?.revision.pipeline ?? null,
      revision: saved?.revision.number ?? null,
      revisionId: saved?.revision.id ?? null,
      state,
      openError: asked.error,
      conflict: trouble.kind === "changed elsewhere" ? trouble.message : null,
      takeTheirs: () =>
        void latest().then((theirs) => {
          dropDraft();
          adopt(theirs);
        }),
      keepMine: () =>
        void latest().then((theirs) => {
          const mine = useDraft.getState().document;
          if (mine) void save(theirs.pipeline, theirs.number, mine);
        }),
      flush,
      open: async () => {
        await flush();
        await client.refetchQueries(askOpenPipeline);
      },
    };
  }, [saved, state, asked.error, trouble, adopt, save, flush, client]);
}

/**
 * After a refusal because of a newer revision: its number, if it is a state this window itself went through, which it sent off when the page
 * was left; null when it is someone else's.
 */
async function ownRevision(error: unknown, pipeline: number): Promise<number | null> {
  if (!(error instanceof Refusal) || error.status !== 409) return null;
  const latest = await take(api.GET("/api/pipelines/{id}", { params: { path: { id: pipeline } } })).catch(() => null);
  return latest && wentThrough(latest.document as unknown as PipelineDocument) ? latest.number : null;
}

function troubleOf(error: unknown, document: PipelineDocument): Trouble {
  if (!(error instanceof Refusal) || error.status === 0) return { kind: "no answer" };
  return error.status === 409 ? { kind: "changed elsewhere", message: error.message } : { kind: "refused", document };
}

/** Send changes off while the page goes away; nobody is there to hear the answer. */
function sendLast({ pipeline, number }: Revision, document: PipelineDocument): void {
  void fetch(`/api/pipelines/${pipeline}`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ document, base: number }),
    keepalive: true,
  }).catch(() => undefined); // kept in the browser until the next visit
}

function stateOf(unsaved: boolean, busy: boolean, trouble: Trouble): string {
  if (busy) return "Saving…";
  if (!unsaved) return "";
  if (!may.edit) return "and changes, kept in this browser alone";
  return trouble.kind === "none" ? "and changes since" : "Not saved";
}
