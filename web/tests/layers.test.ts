import { expect, test } from "vitest";

/** Folders from the bottom up: a file imports from its own folder and from those before it. */
const FLOORS = [["api", "picture", "words"], ["state", "shell"], ["evidence"], ["bench", "datasets", "pipelines", "editions", "people"]];
const PAGES = FLOORS.length - 1;

const sources = import.meta.glob<string>("../src/*/**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true });
const floorOf = (folder: string) => FLOORS.findIndex((floor) => floor.includes(folder));

/** The folder below `src` that an import from a file in `folders` leads to; "" for a file right in `src`. */
function folderOf(folders: string[], target: string): string {
  const path = [...folders];
  for (const part of target.split("/")) {
    if (part === "..") path.pop();
    else if (part !== ".") path.push(part);
  }
  return path.length > 1 ? (path[0] ?? "") : "";
}

test.each(Object.entries(sources))("%s imports from no other page and from nothing above it", (name, text) => {
  const folders = name.replace("../src/", "").split("/").slice(0, -1);
  const own = folders[0] ?? "";
  expect(floorOf(own), `${own} has no floor`).toBeGreaterThanOrEqual(0);
  for (const [, target = ""] of text.matchAll(/from "(\.[^"]+)"/g)) {
    const folder = folderOf(folders, target);
    const beside = floorOf(own) < PAGES && floorOf(folder) < PAGES;
    expect(folder === "" || folder === own || floorOf(folder) < floorOf(own) || beside, `${name} imports ${target}`).toBe(true);
  }
});
