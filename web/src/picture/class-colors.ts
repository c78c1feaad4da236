/** Sixteen class colors that differ in lightness beside hue, for color-blind people too; contact sheets of the terminal use the same. */
const CLASS_COLORS = [
  "#55bbee",
  "#eebb00",
  "#cc6611",
  "#99ffff",
  "#5522ff",
  "#ddff11",
  "#6688ff",
  "#ee8855",
  "#bbdd99",
  "#bb7788",
  "#77ddff",
  "#dd99aa",
  "#aa3377",
  "#9966bb",
  "#9922bb",
  "#bb1100",
];

export function classColor(classes: readonly string[], name: string): string {
  return CLASS_COLORS[Math.max(0, classes.indexOf(name)) % CLASS_COLORS.length] ?? "#ffffff";
}

/** The same colors for lines of a plot, one after the other. */
export const seriesColor = (place: number): string => CLASS_COLORS[place % CLASS_COLORS.length] ?? "#ffffff";
