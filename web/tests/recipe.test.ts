import { describe, expect, it } from "vitest";
import { type Draft, fieldsOf, isOwn, missingOf, recipeOf, taught } from "../src/datasets/recipe";

const table: Draft = {
  recipe: {
    varlen_reading: 1,
    name: "n",
    pictures: "{any}",
    labels: { files: "notes.txt", columns: "picture class x_min y_min x_max y_max score *", separator: ";" },
    picture: "picture",
    class: "class",
    box: ["x_min", "y_min", "x_max", "y_max"],
  },
  file: "notes.txt",
  rows: [["a.png", "moth", "1", "2", "3", "4", "0.5"]],
  missing: [],
};

describe("a recipe said by choosing", () => {
  it("is the draft where nothing is changed", () => {
    expect(recipeOf(table, fieldsOf(table), false)).toEqual(table.recipe);
    expect(isOwn(table)).toBe(false);
  });

  it("says a box by its size, and names each column by what it is", () => {
    const fields = taught(taught(fieldsOf(table), 4, "width"), 5, "height");
    const recipe = recipeOf(table, taught(fields, 6, "ignore"), true);
    expect(recipe).toMatchObject({ box: ["x_min", "y_min", "width", "height"], box_form: "corner-size", unit: "shares" });
    expect(recipe.labels).toMatchObject({ columns: "picture class x_min y_min width height _ *" });
  });

  it("gives a meaning to one column alone, and asks for what is missing", () => {
    const moved = taught(fieldsOf(table), 6, "class");
    expect(moved.map((each) => each.meaning)).toEqual(["picture", "keep", "x_min", "y_min", "x_max", "y_max", "class"]);
    expect(recipeOf(table, moved, false).labels).toMatchObject({ columns: "picture column_2 x_min y_min x_max y_max class *" });
    expect(missingOf(taught(moved, 6, "keep"), false)).toMatch("the class");
    expect(missingOf(taught(moved, 0, "keep"), false)).toMatch("names the picture");
    expect(missingOf(taught(moved, 0, "keep"), true)).toBe("");
    expect(missingOf(taught(moved, 2, "keep"), false)).toMatch("the box");
  });

  it("keeps the keys of a JSON as they are called", () => {
    const nested: Draft = {
      recipe: {
        varlen_reading: 1,
        name: "n",
        labels: { files: "a.json" },
        objects: "marks[]",
        class: "kind.species",
        box: ["a.x1", "a.y1", "a.x2", "a.y2"],
      },
      file: "a.json",
      rows: [
        ["kind.species", '"moth"'],
        ["a.x1", "1"],
        ["a.y1", "2"],
        ["a.x2", "3"],
        ["a.y2", "4"],
      ],
      missing: ["picture"],
    };
    expect(recipeOf(nested, fieldsOf(nested), false)).toEqual(nested.recipe);
  });
});
