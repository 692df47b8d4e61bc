import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import { acceptCompletion, autocompletion, completionKeymap, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { bracketMatching } from "@codemirror/language";
import { linter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { highlightSelectionMatches, openSearchPanel, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { EditorView, hoverTooltip, keymap, lineNumbers } from "@codemirror/view";
import { cspNonce } from "../../app/nonce";
import { looks, languageOf, parameterMarks } from "../../components/sqlLook";
import type { Remark } from "../../api/client";
import { spanOf } from "./places";
import { completionAt, type TableWords } from "./sqlScope";
import "./writing.css";

export interface EditorHandle { goTo: (remark: Remark) => void; line: () => number; find: () => void }

interface Props {
  ref?: Ref<EditorHandle>;
  text: string;
  engine: string;
  tables: TableWords[];
  parameters: string[];
  remarks: Remark[] | undefined;
  onChange: (text: string) => void;
  onSave: () => void;
  onPreview: () => void;
}

/** A remark where the pointer rests, below its line, so that the text around it stays readable. */
const remarkTip = (remarks: () => Remark[]) =>
  hoverTooltip((view, at) => {
    const doc = view.state.doc.toString();
    const here = remarks().map((remark) => ({ remark, span: spanOf(doc, remark) })).filter(({ span }) => span[0] <= at && at <= span[1]);
    if (!here.length) return null;
    return {
      pos: here[0]!.span[0], end: here[0]!.span[1], above: false,
      create: () => {
        const dom = document.createElement("div");
        for (const { remark } of here) {
          const line = dom.appendChild(document.createElement("div"));
          line.className = `remark-tip ${remark.severity}`;
          line.textContent = `${remark.message} ${remark.hint}`;
        }
        return { dom };
      },
    };
  });

const KINDS: Record<string, string> = { column: "property", alias: "namespace", with: "class", table: "class", parameter: "variable", keyword: "keyword", word: "text" };

/** The statement as its author writes it: completion by scope, remarks in place, find and replace, Ctrl+Enter, Ctrl+S. */
export function SqlEditor({ ref, text, engine, tables, parameters, remarks, onChange, onSave, onPreview }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef({ tables, parameters, remarks, onChange, onSave, onPreview });
  useEffect(() => {
    now.current = { tables, parameters, remarks, onChange, onSave, onPreview };
  });
  useImperativeHandle(ref, () => ({
    goTo: (remark) => {
      const editor = view.current!;
      const [from, to] = spanOf(editor.state.doc.toString(), remark);
      editor.dispatch({ selection: { anchor: from, head: to }, scrollIntoView: true });
      editor.focus();
    },
    line: () => { const { state } = view.current!; return state.doc.lineAt(state.selection.main.head).number; },
    find: () => { openSearchPanel(view.current!); },
  }), []);
  useEffect(() => {
    const complete = (context: CompletionContext): CompletionResult | null => {
      const found = completionAt(context.state.doc.toString(), context.pos, now.current.tables, now.current.parameters, engine, context.explicit);
      if (!found) return null;
      return { from: found.from, validFor: /^[\p{L}\p{N}_$]*$/u, options: found.proposals.map((p) => ({ label: p.label, apply: p.apply ?? p.label, type: KINDS[p.kind]!, detail: p.detail, boost: p.boost })) };
    };
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: "",
        extensions: [
          lineNumbers(), history(), bracketMatching(), highlightSelectionMatches(), search({ top: true }),
          autocompletion({ override: [complete], icons: false, maxRenderedOptions: 60 }),
          keymap.of([
            { key: "Mod-Enter", preventDefault: true, run: () => (now.current.onPreview(), true) },
            { key: "Mod-s", preventDefault: true, run: () => (now.current.onSave(), true) },
            { key: "Tab", run: acceptCompletion },
            ...completionKeymap, ...searchKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab,
          ]),
          linter(null, { tooltipFilter: () => [] }), remarkTip(() => now.current.remarks ?? []),
          languageOf(engine), parameterMarks, ...looks,
          EditorView.contentAttributes.of({ "aria-label": "Statement" }),
          EditorView.cspNonce.of(cspNonce),
          EditorView.updateListener.of((update) => { if (update.docChanged) now.current.onChange(update.state.doc.toString()); }),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, [engine]);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text, engine]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || !remarks) return;
    const doc = editor.state.doc.toString();
    const shown = remarks.map((remark): Diagnostic => {
      const [from, to] = spanOf(doc, remark);
      return { from, to, severity: remark.severity === "note" ? "info" : remark.severity, message: `${remark.message} ${remark.hint}`.trim() };
    });
    editor.dispatch(setDiagnostics(editor.state, shown));
  }, [remarks]);
  return <div ref={box} className="sql-editor" />;
}
