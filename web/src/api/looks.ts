import type { PipelineDocument, Tile } from "./client";
import { Refusal } from "./client";

/** What is wished for: tiles, each a document's place, an image and a variant. */
export interface LooksWish {
  dataset: number;
  documents: readonly PipelineDocument[];
  tiles: readonly (readonly [document: number, image: number, variant: number])[];
  /** Of the pictures, px. */
  width: number;
  /** Whether quick looks are followed by exact pictures. */
  exact: boolean;
}

/** A part of the answer: a tile with a first picture, or the exact picture that takes its place. */
export interface LookFrame {
  place: number;
  exact: boolean;
  tile?: Tile;
  jpeg: Uint8Array<ArrayBuffer>;
}

type Head = Omit<LookFrame, "jpeg"> | { runs: { steps: string[] }[] };

/** Lengths before every frame. */
const LENGTHS = 8;

/** Tiles as the server makes them; gives what it says of steps that share a resample. Throws `Refusal`. */
export async function streamLooks(wish: LooksWish, signal: AbortSignal, take: (frame: LookFrame) => void): Promise<string[][]> {
  const answer = await fetch("/api/looks", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(wish),
    signal,
  }).catch((error: unknown) => {
    if (signal.aborted) throw error;
    throw new Refusal("The server does not answer. Is it still running?", [], 0);
  });
  if (!answer.ok || !answer.body) {
    const said = await answer.json().catch(() => undefined);
    throw new Refusal(said?.message ?? `The server answered with an error (${answer.status}).`, said?.problems ?? [], answer.status);
  }
  return readFrames(answer.body.getReader(), take);
}

/** Frames from a stream of bytes, however it is cut into pieces. */
export async function readFrames(
  reader: Pick<ReadableStreamDefaultReader<Uint8Array<ArrayBuffer>>, "read">,
  take: (frame: LookFrame) => void,
): Promise<string[][]> {
  let runs: string[][] = [];
  let held = new Uint8Array(0);
  const text = new TextDecoder();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) break;
    held = held.length ? joined(held, value) : value;
    let at = 0;
    while (held.length - at >= LENGTHS) {
      const lengths = new DataView(held.buffer, held.byteOffset + at, LENGTHS);
      const begin = at + LENGTHS + lengths.getUint32(0, true);
      const end = begin + lengths.getUint32(4, true);
      if (held.length < end) break;
      const head: Head = JSON.parse(text.decode(held.subarray(at + LENGTHS, begin)));
      if ("runs" in head) runs = head.runs.map((run) => run.steps);
      else take({ ...head, jpeg: held.slice(begin, end) });
      at = end;
    }
    held = held.subarray(at);
  }
  if (held.length) throw new Refusal("The server's answer broke off.", [], 0);
  return runs;
}

function joined(one: Uint8Array, other: Uint8Array): Uint8Array<ArrayBuffer> {
  const whole = new Uint8Array(one.length + other.length);
  whole.set(one);
  whole.set(other, one.length);
  return whole;
}
