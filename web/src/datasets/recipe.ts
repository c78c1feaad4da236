import type { Recognised } from "./imports";

/** A reading recipe as the server takes it. */
export type Recipe = Record<string, unknown>;
export type Draft = NonNullable<Recognised["draft"]>;

/** What a column or key can be, in the order in which they are offered, and what a person reads. */
export const MEANINGS = {
  keep: "an attribute",
  ignore: "ignored",
  picture: "the picture",
  class: "the class",
  x_min: "left (x)",
  y_min: "top (y)",
  x_max: "right (x)",
  y_max: "bottom (y)",
  x: "centre x",
  y: "centre y",
  width: "width",
  height: "height",
} as const;
export type Meaning = keyof typeof MEANINGS;

/** A column of a text or a key of a record: its name, and what it is taken to be. */
export interface TaughtField {
  name: string;
  meaning: Meaning;
}

const BOXES: Record<string, Meaning[]> = {
  corners: ["x_min", "y_min", "x_max", "y_max"],
  "corner-size": ["x_min", "y_min", "width", "height"],
  "centre-size": ["x", "y", "width", "height"],
};

const columnsOf = (recipe: Recipe): string[] | null => {
  const { columns } = recipe.labels as { columns?: string };
  return columns ? columns.split(" ").filter((each) => each !== "*") : null;
};

/** The draft's columns or keys, each with what it seems to be. */
export function fieldsOf({ recipe, rows }: Draft): TaughtField[] {
  const columns = columnsOf(recipe);
  const box = Array.isArray(recipe.box) ? (recipe.box as string[]) : [];
  const inBox = BOXES[(recipe.box_form as string) ?? "corners"] ?? [];
  const meaningOf = (name: string): Meaning => {
    if (name === recipe.picture) return "picture";
    if (name === recipe.class) return "class";
    return inBox[box.indexOf(name)] ?? "keep";
  };
  return (columns ?? rows.map(([name]) => name ?? "")).map((name) => ({ name, meaning: meaningOf(name) }));
}

/** What is still to be said before anything can be read; "" for nothing. own: whether each label file is of one picture. */
export function missingOf(fields: TaughtField[], own: boolean): string {
  const has = (meaning: Meaning) => fields.some((each) => each.meaning === meaning);
  if (!has("class")) return "Which column is the class?";
  if (!own && !has("picture")) return "Which column names the picture?";
  if (!boxOf(fields)) return "Which four columns are the box: two corners, a corner with width and height, or a centre with them?";
  return "";
}

function boxOf(fields: TaughtField[]): { form: string; names: string[] } | null {
  for (const [form, meanings] of Object.entries(BOXES)) {
    const names = meanings.map((meaning) => fields.find((each) => each.meaning === meaning)?.name);
    if (names.every((name) => name !== undefined)) return { form, names: names as string[] };
  }
  return null;
}

/** What a column is called in a recipe: after what it is, else as it was, unless that would be another's name. */
const columnName = ({ name, meaning }: TaughtField, place: number): string => {
  if (meaning === "ignore") return "_";
  if (meaning !== "keep") return meaning;
  return name in MEANINGS ? `column_${place + 1}` : name;
};

/** The recipe that says what a person said; other parts of the draft stay. */
export function recipeOf({ recipe }: Draft, said: TaughtField[], shares: boolean): Recipe {
  const { box: _box, box_form: _form, unit: _unit, picture: _picture, class: _class, ...rest } = recipe;
  const made: Recipe = { ...rest };
  const isTable = columnsOf(recipe) !== null;
  const fields = isTable ? said.map((each, place) => ({ ...each, name: columnName(each, place) })) : said;
  if (isTable) {
    const labels = recipe.labels as { columns: string };
    const more = labels.columns.split(" ").includes("*") ? ["*"] : [];
    made.labels = { ...labels, columns: [...fields.map((each) => each.name), ...more].join(" ") };
  }
  const find = (meaning: Meaning) => fields.find((each) => each.meaning === meaning)?.name;
  const box = boxOf(fields);
  const picture = find("picture");
  return {
    ...made,
    ...(picture ? { picture } : {}),
    class: find("class"),
    ...(box ? { box: box.names } : {}),
    ...(box && box.form !== "corners" ? { box_form: box.form } : {}),
    ...(shares ? { unit: "shares" } : {}),
  };
}

/** Whether each label file is of one picture, which its path names. */
export const isOwn = ({ recipe }: Draft): boolean => String((recipe.labels as { files: string }).files).includes("{name}");

/** A field given another meaning; what was that before is kept as an attribute. */
export const taught = (fields: TaughtField[], place: number, meaning: Meaning): TaughtField[] =>
  fields.map((each, n) =>
    n === place
      ? { ...each, meaning }
      : each.meaning === meaning && meaning !== "keep" && meaning !== "ignore"
        ? { ...each, meaning: "keep" }
        : each,
  );
