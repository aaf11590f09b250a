import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { linter } from "@codemirror/lint";
import CodeMirror, { EditorView, keymap, Prec } from "@uiw/react-codemirror";
import { useEffect, useMemo, useRef, useState } from "react";
import { get, type ConditionCheck } from "../api/client";

const variables: [string, string][] = [
  ["key", "the message's key"],
  ["body", "the body as JSON"],
  ["text", "the body as text"],
  ["headers", "the headers"],
  ["id", "the message's id"],
  ["time", "when it was stored"],
  ["size", "bytes of the body"],
  ["partition", "the partition's number"],
  ["offset", "the message's offset"],
];

const nonce = document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "";

// Our own look: the editor's themes do not have the contrast.
const look = EditorView.theme({
  "&": {
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
    fontSize: "0.875rem",
    border: "1px solid var(--hair-strong)",
    borderRadius: "4px",
  },
  "&.cm-focused": { outline: "2px solid var(--focus)", outlineOffset: "2px" },
  ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--ink)", padding: "0.25rem 0.2rem" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-placeholder": { color: "var(--ink-soft)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--hair-strong)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--sea)", color: "var(--on-sea)" },
  ".cm-completionDetail": { color: "inherit", fontStyle: "normal", marginLeft: "1em" },
  ".cm-lintRange-error": { backgroundImage: "none", textDecoration: "underline wavy var(--alarm)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--sea-soft) !important" },
});

/** Asks the service whether a condition compiles. */
async function check(where: string): Promise<ConditionCheck> {
  if (!where.trim()) return { ok: true };
  return get<ConditionCheck>("/conditions/check?where=" + encodeURIComponent(where)).catch(() => ({ ok: true }));
}

/** An editor for a condition, with completion and the error at its place. */
export default function Condition({
  value,
  fields,
  onChange,
  onRun,
}: {
  value: string;
  fields: string[];
  onChange: (text: string) => void;
  onRun: (text: string) => void;
}) {
  const [answer, setAnswer] = useState<ConditionCheck>({ ok: true });
  const run = useRef(onRun);
  useEffect(() => {
    run.current = onRun;
  });

  const extensions = useMemo(() => {
    const complete = (c: CompletionContext) => {
      const word = c.matchBefore(/[\w.]*/);
      if (!word || (word.from === word.to && !c.explicit)) return null;
      return {
        from: word.from,
        options: [
          ...variables.map(([label, detail]) => ({ label, detail, type: "variable" })),
          ...fields.map((label) => ({ label, detail: "seen in bodies", type: "property" })),
        ],
        validFor: /^[\w.]*$/,
      };
    };
    const lint = async (view: EditorView) => {
      const text = view.state.doc.toString();
      const a = await check(text);
      setAnswer(a);
      if (a.ok) return [];
      const at = Math.min(Math.max((a.column ?? 1) - 1, 0), Math.max(text.length - 1, 0));
      const word = /^[\w.]+/.exec(text.slice(at))?.[0].length ?? 1;
      return [{ from: at, to: Math.min(at + word, text.length), severity: "error" as const, message: a.problem ?? "" }];
    };
    return [
      EditorView.cspNonce.of(nonce),
      linter(lint, { delay: 250 }),
      look,
      EditorView.contentAttributes.of({ "aria-label": "Condition" }),
      autocompletion({ override: [complete] }),
      Prec.high(
        keymap.of([
          {
            key: "Mod-Enter",
            run: (v) => {
              run.current(v.state.doc.toString());
              return true;
            },
          },
        ]),
      ),
      keymap.of([
        {
          key: "Enter",
          run: (v) => {
            run.current(v.state.doc.toString());
            return true;
          },
        },
      ]),
      // One line: what is pasted over several becomes one.
      EditorView.clipboardInputFilter.of((text) => text.replaceAll(/\s*\n\s*/g, " ")),
    ];
  }, [fields]);

  return (
    <div className="min-w-0">
      <CodeMirror
        value={value}
        onChange={onChange}
        theme="none"
        basicSetup={{
          lineNumbers: false,
          foldGutter: false,
          highlightActiveLine: false,
          autocompletion: false,
          defaultKeymap: false,
          searchKeymap: false,
        }}
        placeholder="body.celsius > 8"
        extensions={extensions}
      />
      <p role="status" className="mt-0.5 min-h-5 text-[length:var(--text-small)] text-alarm">
        {!answer.ok && (
          <>
            <span aria-hidden="true">■ </span>
            column {answer.column}: {answer.problem}
            {answer.hint && <span className="text-soft"> — {answer.hint}</span>}
          </>
        )}
      </p>
    </div>
  );
}
