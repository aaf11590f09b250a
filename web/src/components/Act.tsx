import type { Step } from "./AccessDialogs";

/** Begins a change of who may do what. */
export type Change = (step: Step) => void;

/** Changes how something is set. */
export type Setting = (making: "principal" | "role" | "mask", of: { name: string }) => void;

/** What can be done with a row. */
export const act = (word: string, of: string, onClick: () => void) => (
  <button className="min-h-6 text-sea hover:underline" onClick={onClick}>
    {word}
    <span className="sr-only"> {of}</span>
  </button>
);

/** An address, or a pattern of some. */
export const address = (text: string) => <span className="address">{text}</span>;
