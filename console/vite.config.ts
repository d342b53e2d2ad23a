import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  // What brings HPKE asks for the crypto of Node only where there is no other.
  resolve: { alias: [{ find: /^crypto$/, replacement: "/src/privatekey/noNodeCrypto.ts" }] },
  build: { emptyOutDir: true, chunkSizeWarningLimit: 1500, sourcemap: false },
});
