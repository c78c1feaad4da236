import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, type PipelineDocument, Refusal, type Revision, take } from "../api/client";
import { openDocument, useDraft } from "../state/draft";

const QUIET_MS = 900;

export interface Saving {
  revision: number | null;
  revisionId: number | null;
  state: string;
  openError: unknown;
  conflict: string | null;
  takeTheirs: () => void;
  keepMine: () => void;
}

/** Opens the first pipeline and saves every change as a revision; never over someone else's. */
export function useSaving(): Saving {
  const document = useDraft((draft) => draft.document);
  const [saved, setSaved] = useState<Revision | null>(null);
  const [state, setState] = useState("");
  const [conflict, setConflict] = useState<string | null>(null);
  const savedDocument = useRef<PipelineDocument | null>(null);
  const opened = useQuery({
    queryKey: ["open-pipeline"],
    queryFn: async () => {
      const pipelines = await take(api.GET("/api/pipelines"));
      const first = pipelines[0];
      if (!first) throw new Refusal("There is no pipeline yet.", [], 404);
      return take(api.GET("/api/pipelines/{id}", { params: { path: { id: first.id } } }));
    },
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
  });
  const adopt = useCallback((revision: Revision) => {
    setSaved(revision);
    setConflict(null);
    const next = revision.document as unknown as PipelineDocument;
    savedDocument.current = next;
    openDocument(next);
  }, []);
  useEffect(() => {
    if (opened.data) adopt(opened.data);
  }, [opened.data, adopt]);

  const save = useCallback(async (pipeline: number, base: number, current: PipelineDocument) => {
    setState("· saving");
    try {
      const revision = await take(
        api.POST("/api/pipelines/{id}", { params: { path: { id: pipeline } }, body: { document: { ...current }, base } }),
      );
      savedDocument.current = current;
      setSaved(revision);
      setConflict(null);
      setState("");
    } catch (error) {
      if (error instanceof Refusal && error.status === 409) setConflict(error.message);
      setState("· not saved");
    }
  }, []);

  useEffect(() => {
    if (!document || !saved || conflict || document === savedDocument.current) return;
    const timer = setTimeout(() => void save(saved.pipeline, saved.number, document), QUIET_MS);
    return () => clearTimeout(timer);
  }, [document, saved, conflict, save]);

  const latest = async () =>
    saved ? take(api.GET("/api/pipelines/{id}", { params: { path: { id: saved.pipeline } } })) : Promise.reject(new Error("nothing open"));
  return {
    revision: saved?.number ?? null,
    revisionId: saved?.id ?? null,
    state,
    openError: opened.error,
    conflict,
    takeTheirs: () => void latest().then(adopt),
    keepMine: () => void latest().then((theirs) => document && save(theirs.pipeline, theirs.number, document)),
  };
}
