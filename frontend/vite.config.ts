import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "../src/nivelus/web/static",
    emptyOutDir: true,
    chunkSizeWarningLimit: 1500,
    // the stand-in is a page of its own, so that it is there at once on a small device
    rolldownOptions: {
      input: ["index.html", "hand.html"],
      // in parts: a browser compiles them side by side, and keeps those that a new version has not touched
      output: { codeSplitting: { groups: [{ name: "react", test: /node_modules\/(react|react-dom|scheduler)\// }] } },
    },
    // the page may only load its own files, so nothing is inlined as a data address
    assetsInlineLimit: 0,
    // notices of everything that is bundled, as its licences ask for
    license: { fileName: "notices.md" },
  },
  worker: { format: "es" },
  test: { environment: "happy-dom" },
});
