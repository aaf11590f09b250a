import { useSyncExternalStore } from "react";

export type Theme = "light" | "dark";
const listeners = new Set<() => void>();

const current = (): Theme => (document.documentElement.dataset.theme === "dark" ? "dark" : "light");

export function useTheme(): Theme {
  return useSyncExternalStore((f) => {
    listeners.add(f);
    return () => listeners.delete(f);
  }, current);
}

export function setTheme(theme: Theme) {
  document.documentElement.dataset.theme = theme;
  localStorage.setItem("theme", theme);
  listeners.forEach((f) => f());
}
