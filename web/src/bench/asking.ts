import { api, type PipelineDocument, type Schemas, type Sheet, take } from "../api/client";

/** A row of the sheet, and which steps of its pipeline share a resample. */
export type SheetRow = Schemas["Row"] & Pick<Sheet, "runs">;

/** What the rows of one sheet have in common. */
interface Question {
  dataset: number;
  document: PipelineDocument;
  variants: number;
}

interface Wish {
  image: number;
  signal: AbortSignal;
  resolve: (row: SheetRow) => void;
  reject: (reason: unknown) => void;
}

type Post = (question: Question, images: number[], signal: AbortSignal) => Promise<Sheet>;

/** So few rows go into a request that the first are there soon, so many that its own cost is shared. */
const AT_ONCE = 3;

/** Rows that are wished for in one breath are asked for a few at a time; a request is given up when nobody waits for it. */
export function rowAsker(post: Post) {
  let waiting: { question: Question; wishes: Wish[] }[] = [];

  function send(question: Question, wishes: Wish[]): void {
    const left = new Set(wishes);
    const request = new AbortController();
    for (const wish of wishes) {
      wish.signal.addEventListener("abort", () => {
        left.delete(wish);
        if (!left.size) request.abort();
      });
    }
    post(
      question,
      wishes.map((wish) => wish.image),
      request.signal,
    ).then(
      ({ rows, runs }) => {
        for (const wish of wishes) {
          const row = rows.find((each) => each.image === wish.image);
          if (row) wish.resolve({ ...row, runs });
          else wish.reject(new Error(`There is no row of image ${wish.image}.`));
        }
      },
      (reason) => {
        for (const wish of wishes) wish.reject(reason);
      },
    );
  }

  function flush(): void {
    const all = waiting;
    waiting = [];
    for (const { question, wishes } of all) {
      const wanted = wishes.filter((wish) => !wish.signal.aborted);
      for (let from = 0; from < wanted.length; from += AT_ONCE) send(question, wanted.slice(from, from + AT_ONCE));
    }
  }

  return (question: Question, image: number, signal: AbortSignal): Promise<SheetRow> =>
    new Promise((resolve, reject) => {
      if (!waiting.length) queueMicrotask(flush);
      const wish = { image, signal, resolve, reject };
      const asked = waiting.find((each) => isSame(each.question, question));
      if (asked) asked.wishes.push(wish);
      else waiting.push({ question, wishes: [wish] });
    });
}

const isSame = (a: Question, b: Question) => a.document === b.document && a.dataset === b.dataset && a.variants === b.variants;

export const askForRow = rowAsker(({ dataset, document, variants }, images, signal) =>
  take(api.POST("/api/sheet", { body: { dataset, document: { ...document }, images, variants }, signal })),
);
