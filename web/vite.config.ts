import { sveltekit } from '@sveltejs/kit/vite';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), sveltekit()],
  ssr: { external: ['@node-rs/argon2'] },
  // Fonts stay files: the content security policy allows none in a style sheet.
  build: { assetsInlineLimit: 0 },
});
