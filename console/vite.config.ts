import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: { emptyOutDir: true, chunkSizeWarningLimit: 1500, sourcemap: false },
});
