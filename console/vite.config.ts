import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1000 },
  // While the console is developed it is served by Vite, and asks the service for everything under /api.
  server: { proxy: { "/api": "http://127.0.0.1:7215" } },
});
