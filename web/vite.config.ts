import { fileURLToPath } from "node:url";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  test: { testTimeout: 120_000, setupFiles: ["src/testing.ts"] },
  build: {
    outDir: "dist",
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    // index.html is the application; player.html plays one stream, and is served by workers.
    rollupOptions: { input: ["index.html", "player.html"] },
  },
});
