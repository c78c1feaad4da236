/** Round numbers between two, about `parts` of them apart; `steps`: the leading figures they may have. */
export function ticks(from: number, to: number, parts: number, steps: readonly number[]): number[] {
  const raw = (to - from) / parts;
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = steps.map((each) => each * power).find((each) => each >= raw) ?? raw;
  const found: number[] = [];
  for (let mark = Math.ceil(from / step) * step; mark <= to; mark += step) found.push(Number(mark.toPrecision(6)));
  return found;
}
