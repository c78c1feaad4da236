import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

interface Graph {
  getModuleInfo: (id: string) => Module | null;
}

interface Module {
  isEntry: boolean;
  importers: readonly string[];
}

/** Tells the modules that some need, at once or by way of others, from the rest. */
function neededBy(isRoot: (id: string, module: Module) => boolean): (id: string, graph: Graph) => boolean {
  const known = new Map<string, boolean>();
  return (id, graph) => {
    const seen = new Set([id]);
    for (const each of seen) {
      const module = known.get(each) === false ? null : graph.getModuleInfo(each);
      if (known.get(each) || (module && isRoot(each, module))) {
        known.set(id, true);
        return true;
      }
      for (const importer of module?.importers ?? []) seen.add(importer);
    }
    // Nothing that leads here is needed either.
    for (const each of seen) known.set(each, false);
    return false;
  };
}

/** What is needed before anything can be drawn. */
const isFirst = neededBy((_, { isEntry }) => isEntry);
/** What the bench is furnished with once its first tiles are there. */
const isFurniture = neededBy((id) => /src\/(shell\/component-library|bench\/(BenchTools|LedgerBar|SheetTools|StepChoices|StepPanel))\.tsx$/.test(id));

/** The page's own letters are asked for at once: text that is drawn before they are there is laid out twice. */
const lettersFirst: Plugin = {
  name: "letters-first",
  transformIndexHtml: {
    order: "post",
    handler: (_, { bundle }) => {
      const letters = Object.keys(bundle ?? {}).find((file) => /inter-latin-wght-normal.*\.woff2$/.test(file));
      if (!letters) return [];
      const attrs = { rel: "preload", as: "font", type: "font/woff2", crossorigin: true, href: `/${letters}` };
      return [{ tag: "link", attrs, injectTo: "head" as const }];
    },
  },
};

export default defineConfig({
  plugins: [react(), lettersFirst],
  server: { proxy: { "/api": "http://127.0.0.1:8417" } },
  build: {
    target: "es2022",
    chunkSizeWarningLimit: 1200,
    rolldownOptions: {
      output: {
        // One file for all that comes first, and one for what the bench is furnished with: dozens of small ones cost a trip each.
        codeSplitting: {
          groups: [
            { name: (id, graph) => (isFirst(id, graph) ? "first" : null), debugName: "first" },
            { name: (id, graph) => (isFurniture(id, graph) ? "furniture" : null), debugName: "furniture" },
          ],
        },
      },
    },
  },
});
