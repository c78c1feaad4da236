import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

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
  },
});
