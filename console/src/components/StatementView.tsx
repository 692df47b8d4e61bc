import { useEffect, useRef } from "react";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { MariaSQL, PostgreSQL, SQLite, sql, type SQLDialect } from "@codemirror/lang-sql";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { highlightSelectionMatches, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { Decoration, EditorView, keymap, lineNumbers, MatchDecorator, ViewPlugin, type DecorationSet, type ViewUpdate } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { cspNonce } from "../app/nonce";

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--pl-accent)", fontWeight: "600" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--pl-doneInk)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--pl-run)" },
  { tag: [tags.lineComment, tags.blockComment], color: "var(--pl-ink3)", fontStyle: "italic" },
]);

const theme = EditorView.theme({
  "&": { fontSize: "13px", backgroundColor: "var(--pl-surface)", border: "1px solid var(--pl-line)", borderRadius: "4px" },
  "&.cm-focused": { outline: "2px solid var(--pl-accent)" },
  ".cm-scroller": { fontFamily: "var(--mono)", fontVariantLigatures: "none", maxHeight: "46vh" },
  ".cm-gutters": { backgroundColor: "var(--pl-surface)", color: "var(--pl-ink3)", border: "none" },
  ".cm-content": { caretColor: "var(--pl-ink)" },
  ".cm-cursor": { borderLeftColor: "var(--pl-ink)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--pl-runTint) !important" },
  ".cm-parameter": { color: "var(--pl-late)", fontWeight: "600" },
});

const matcher = new MatchDecorator({ regexp: /(?<![:\w])::?([A-Za-z_]\w*)/g, decoration: (m) => (m[0].startsWith("::") ? null : Decoration.mark({ class: "cm-parameter" })) });
const parameters = ViewPlugin.fromClass(
  class {
    decorations: DecorationSet;
    constructor(view: EditorView) {
      this.decorations = matcher.createDeco(view);
    }
    update(update: ViewUpdate) {
      this.decorations = matcher.updateDeco(update, this.decorations);
    }
  },
  { decorations: (plugin) => plugin.decorations },
);

const dialects: Record<string, SQLDialect> = { mariadb: MariaSQL, sqlite: SQLite };

interface Props {
  text: string;
  engine: string;
  label: string;
  onChange?: (text: string) => void;
  onSave?: () => void;
}

/** The statement with highlighting; an editor when `onChange` is given. */
export function StatementView({ text, engine, label, onChange, onSave }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const calls = useRef({ onChange, onSave });
  const writable = onChange !== undefined;
  useEffect(() => {
    calls.current = { onChange, onSave };
  });
  useEffect(() => {
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: "",
        extensions: [
          lineNumbers(),
          history(),
          highlightSelectionMatches(),
          keymap.of([{ key: "Mod-s", preventDefault: true, run: () => (calls.current.onSave?.(), true) }, ...defaultKeymap, ...historyKeymap, ...searchKeymap]),
          sql({ dialect: dialects[engine] ?? PostgreSQL }),
          syntaxHighlighting(colours),
          parameters,
          theme,
          new Compartment().of(EditorState.readOnly.of(!writable)),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.cspNonce.of(cspNonce),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) calls.current.onChange?.(update.state.doc.toString());
          }),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, [engine, label, writable]);
  useEffect(() => {
    const now = view.current;
    if (now && now.state.doc.toString() !== text) now.dispatch({ changes: { from: 0, to: now.state.doc.length, insert: text } });
  }, [text, engine, label, writable]);
  return <div ref={box} />;
}
