import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

interface Graph {
  getModuleInfo: (id: string) => { isEntry: boolean; importers: readonly string[] } | null;
}

const first = new Map<string, boolean>();

/** Whether a module is needed before anything can be drawn: the entry's own, and all that those import. */
function isFirst(id: string, graph: Graph): boolean {
  const known = first.get(id);
  if (known !== undefined) return known;
  first.set(id, false); // until it is known, for modules that import each other
  const module = graph.getModuleInfo(id);
  const found = module !== null && (module.isEntry || module.importers.some((importer) => isFirst(importer, graph)));
  if (found) first.set(id, true);
  else first.delete(id);
  return found;
}

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
        // One file for all that comes first: two dozen small ones cost a trip each.
        codeSplitting: { groups: [{ name: (id, graph) => (isFirst(id, graph) ? "first" : null), debugName: "first" }] },
      },
    },
  },
});
