import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import { acceptCompletion, autocompletion, completionKeymap, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { bracketMatching } from "@codemirror/language";
import { linter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { highlightSelectionMatches, openSearchPanel, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { EditorView, hoverTooltip, keymap, lineNumbers } from "@codemirror/view";
import { cspNonce } from "../../app/nonce";
import { colouringOf, looks, parameterMarks } from "../../components/sqlLook";
import type { Completion, Remark } from "../../api/client";
import type { Language } from "../../api/useEngines";
import { spanOf } from "./places";
import "./writing.css";

export interface EditorHandle { goTo: (remark: Remark) => void; line: () => number; find: () => void }

/** What may come at a position, in code points; null where nothing can be proposed. */
export type Complete = (statement: string, position: number, asked: boolean) => Promise<Completion | null>;

interface Props {
  ref?: Ref<EditorHandle>;
  text: string;
  language: Language | undefined;
  complete: Complete;
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
export function SqlEditor({ ref, text, language, complete, remarks, onChange, onSave, onPreview }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef({ complete, remarks, onChange, onSave, onPreview });
  useEffect(() => {
    now.current = { complete, remarks, onChange, onSave, onPreview };
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
    const propose = async (context: CompletionContext): Promise<CompletionResult | null> => {
      const before = context.state.sliceDoc(0, context.pos);
      if (!context.explicit && !/[\p{L}\p{N}_$.:]$/u.test(before)) return null;
      const found = await now.current.complete(context.state.doc.toString(), [...before].length, context.explicit);
      if (!found?.proposals.length || context.aborted) return null;
      const options = found.proposals.map((p) => ({ label: p.label, apply: p.apply, type: KINDS[p.kind]!, detail: p.detail, boost: p.boost }));
      return { from: context.pos - found.typed.length, options, ...(found.complete ? { validFor: /^[\p{L}\p{N}_$]*$/u } : {}) };
    };
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: "",
        extensions: [
          lineNumbers(), history(), bracketMatching(), highlightSelectionMatches(), search({ top: true }),
          autocompletion({ override: [propose], icons: false, maxRenderedOptions: 60 }),
          keymap.of([
            { key: "Mod-Enter", preventDefault: true, run: () => (now.current.onPreview(), true) },
            { key: "Mod-s", preventDefault: true, run: () => (now.current.onSave(), true) },
            { key: "Tab", run: acceptCompletion },
            ...completionKeymap, ...searchKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab,
          ]),
          linter(null, { tooltipFilter: () => [] }), remarkTip(() => now.current.remarks ?? []),
          colouringOf(language), parameterMarks, ...looks,
          EditorView.contentAttributes.of({ "aria-label": "Statement" }),
          EditorView.cspNonce.of(cspNonce),
          EditorView.updateListener.of((update) => { if (update.docChanged) now.current.onChange(update.state.doc.toString()); }),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, [language]);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text, language]);
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
