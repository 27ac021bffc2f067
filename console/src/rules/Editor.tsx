import { autocompletion, closeBrackets, completionKeymap, type Completion, type CompletionContext } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { tags } from "@lezer/highlight";
import type { Finding, Language, Named } from "../api";

/** How the text is coloured, by the words of the language as the program tells them. */
function colours(language: Language) {
  const declarations = new Set(language.declarations.map((d) => d.keyword));
  const clauses = new Set(language.declarations.flatMap((d) => d.clauses.map(firstWord)));
  const words = new Set(language.words);
  return StreamLanguage.define<{ head: boolean; start: boolean }>({
    name: "sheet",
    startState: () => ({ head: false, start: true }),
    token(stream, state) {
      if (stream.sol()) {
        state.head = !/^\s/.test(stream.string);
        state.start = true;
      }
      if (stream.eatSpace()) return null;
      if (stream.match(/^#.*/)) return "comment";
      const first = state.start;
      state.start = false;
      if (stream.match(/^"(\\.|[^"\\])*"?/)) return "string";
      if (stream.match(/^\d+(\.\d+)?/)) {
        stream.match(/^\s*[A-Za-zµ°%"][\w/°%"]*/);
        return "number";
      }
      const word = stream.match(/^[A-Za-z_]\w*/);
      if (word && word !== true) {
        const text = word[0];
        if (first && (state.head ? declarations : clauses).has(text)) return "keyword";
        return words.has(text) ? "keyword" : "variableName";
      }
      stream.next();
      return null;
    },
  });
}

const firstWord = (clause: string) => clause.split(" ")[0] ?? clause;

/** What may begin a clause of the declaration that is written; where that is not known, of any. */
function clausesOf(language: Language, text: string): string[] {
  const own = language.declarations.find((d) => d.keyword === /^\w+/.exec(text)?.[0]);
  return own?.clauses ?? [...new Set(language.declarations.flatMap((d) => d.clauses))];
}

const looks = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--accent)", fontWeight: "600" },
  { tag: tags.string, color: "var(--ink-2)" },
  { tag: tags.number, color: "var(--bad)" },
  { tag: tags.comment, color: "var(--ink-3)", fontStyle: "italic" },
]);

const theme = EditorView.theme({
  "&": { fontSize: "12.5px", backgroundColor: "transparent", color: "var(--ink)" },
  "&.cm-focused": { outline: "2px solid var(--accent)", outlineOffset: "-2px", borderRadius: "0 0 9px 9px" },
  ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--ink)", padding: "8px 0" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--ink-3)", border: "none" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--accent-weak) !important" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--line-2)", borderRadius: "7px" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--accent-weak)", color: "var(--accent)" },
  ".cm-diagnostic": { maxWidth: "420px" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--critical)" },
  ".cm-diagnostic-warning": { borderLeftColor: "var(--accent)" },
});

/** The text of one declaration, with colours, completion and findings. */
export default function Editor({ text, first, findings, names, language, onChange, onSave }: { text: string; first: number; findings: Finding[]; names: Named[]; language: Language; onChange: (text: string) => void; onSave: () => void }) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  // What the editor asks for when it needs it, as of the last rendering.
  const now = useRef({ names, language, first, onChange, onSave });
  useEffect(() => {
    now.current = { names, language, first, onChange, onSave };
  });
  useEffect(() => {
    if (!host.current) return;
    const complete = (context: CompletionContext) => {
      const word = context.matchBefore(/[\w/%°]*/);
      if (!word || (word.from === word.to && !context.explicit)) return null;
      const before = context.state.doc.lineAt(word.from).text.slice(0, word.from - context.state.doc.lineAt(word.from).from);
      const afterNumber = /\d\s*$/.test(before) || /^\d/.test(word.text);
      const digits = /^\d*/.exec(word.text)?.[0].length ?? 0;
      const options: Completion[] = afterNumber
        ? now.current.language.units.map((u) => ({ label: u, type: "type" }))
        : [...now.current.names.map((n) => ({ label: n.name, detail: n.title === n.name ? n.unit : n.title, type: "variable" })), ...(/^\s+$/.test(before) ? clausesOf(now.current.language, context.state.doc.toString()) : now.current.language.words).map((w) => ({ label: w, type: "keyword" }))];
      return { from: word.from + (afterNumber ? digits : 0), options, validFor: /^[\w/%°]*$/ };
    };
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: "",
        extensions: [
          lineNumbers({ formatNumber: (n) => String(n + now.current.first - 1) }),
          history(),
          closeBrackets(),
          colours(now.current.language),
          syntaxHighlighting(looks),
          autocompletion({ override: [complete], icons: false }),
          lintGutter(),
          theme,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": "Text of the declaration" }),
          keymap.of([{ key: "Mod-s", run: () => (now.current.onSave(), true), preventDefault: true }, ...completionKeymap, ...historyKeymap, ...defaultKeymap]),
          EditorView.updateListener.of((u) => {
            if (u.docChanged && !u.transactions.some((t) => t.isUserEvent("outside"))) now.current.onChange(u.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, []);
  useEffect(() => {
    const editor = view.current;
    const old = editor?.state.doc.toString();
    if (!editor || old === undefined || old === text) return;
    let a = 0; // only what differs is replaced, so that the cursor stays
    while (a < old.length && a < text.length && old[a] === text[a]) a++;
    let b = 0;
    while (b < old.length - a && b < text.length - a && old[old.length - 1 - b] === text[text.length - 1 - b]) b++;
    editor.dispatch({ changes: { from: a, to: old.length - b, insert: text.slice(a, text.length - b) }, userEvent: "outside" });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const { doc } = editor.state;
    const all: Diagnostic[] = [];
    for (const f of findings) {
      const n = f.line - first + 1;
      if (n < 1 || n > doc.lines) continue;
      const line = doc.line(n);
      const from = Math.min(line.from + [...line.text].slice(0, f.column - 1).join("").length, line.to);
      const word = /^[\w.]+|^\S/.exec(doc.sliceString(from, line.to))?.[0].length ?? 0;
      all.push({ from, to: Math.min(from + word, line.to), severity: f.severity === "error" ? "error" : "warning", message: `${f.text} [${f.code}]` });
    }
    editor.dispatch(setDiagnostics(editor.state, all.sort((x, y) => x.from - y.from)));
  }, [findings, first, text]);
  return <div ref={host} data-testid="editor" />;
}
