interface ImportMetaEnv {
  readonly VITE_QUAYSIDE?: string;
  readonly VITE_TIDEBOOK?: string;
}
