import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import {
  acceptCompletion,
  autocompletion,
  completionKeymap,
  type CompletionContext,
  type CompletionResult,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { bracketMatching } from "@codemirror/language";
import { linter, setDiagnostics, type Diagnostic as Mark } from "@codemirror/lint";
import { highlightSelectionMatches, openSearchPanel, search, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { EditorView, hoverTooltip, keymap, lineNumbers } from "@codemirror/view";
import { cspNonce } from "../../app/nonce";
import { colouringOf, looks, parameterMarks } from "../../components/sqlLook";
import type { Completion, Diagnostic } from "../../api/client";
import type { Language } from "../../api/useEngines";
import { spanOf } from "./places";
import "./writing.css";

/** What the keys do that people would not guess, for the eye and for the ear. */
export const KEYS = "Tab leaves the editor, Ctrl+] and Ctrl+[ indent.";

export interface EditorHandle {
  goTo: (place: Pick<Diagnostic, "line" | "column" | "length">) => void;
  line: () => number;
  find: () => void;
}

/** What may come at a position, in code points; null where nothing can be proposed. */
export type Complete = (statement: string, position: number, asked: boolean) => Promise<Completion | null>;

interface Props {
  ref?: Ref<EditorHandle>;
  text: string;
  language: Language | undefined;
  complete: Complete;
  diagnostics: Diagnostic[] | undefined;
  onChange: (text: string) => void;
  onSave: () => void;
  onPreview: () => void;
}

/** A diagnostic where the pointer rests, below its line, so that the text around it stays readable. */
const diagnosticTip = (diagnostics: () => Diagnostic[]) =>
  hoverTooltip((view, at) => {
    const doc = view.state.doc.toString();
    const here = diagnostics()
      .map((diagnostic) => ({ diagnostic, span: spanOf(doc, diagnostic) }))
      .filter(({ span }) => span[0] <= at && at <= span[1]);
    if (!here.length) return null;
    return {
      pos: here[0]!.span[0],
      end: here[0]!.span[1],
      above: false,
      create: () => {
        const dom = document.createElement("div");
        for (const { diagnostic } of here) {
          const line = dom.appendChild(document.createElement("div"));
          line.className = `diagnostic-tip ${diagnostic.severity}`;
          line.textContent = `${diagnostic.message} ${diagnostic.hint}`;
        }
        return { dom };
      },
    };
  });

const KINDS: Record<string, string> = {
  column: "property",
  alias: "namespace",
  with: "class",
  table: "class",
  parameter: "variable",
  keyword: "keyword",
  word: "text",
};

/** The statement as its author writes it: completion by scope, diagnostics in place, find and replace, Ctrl+Enter, Ctrl+S. */
export function SqlEditor({ ref, text, language, complete, diagnostics, onChange, onSave, onPreview }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const colours = useRef(new Compartment());
  const asks = language?.editor?.syntax === "json" ? /[\p{L}\p{N}_$.:"]$/u : /[\p{L}\p{N}_$.:]$/u;
  const now = useRef({ complete, diagnostics, onChange, onSave, onPreview, asks });
  useEffect(() => {
    now.current = { complete, diagnostics, onChange, onSave, onPreview, asks };
  });
  useImperativeHandle(
    ref,
    () => ({
      goTo: (place) => {
        const editor = view.current!;
        const [from, to] = spanOf(editor.state.doc.toString(), place);
        editor.dispatch({ selection: { anchor: from, head: to }, scrollIntoView: true });
        editor.focus();
      },
      line: () => {
        const { state } = view.current!;
        return state.doc.lineAt(state.selection.main.head).number;
      },
      find: () => {
        openSearchPanel(view.current!);
      },
    }),
    [],
  );
  useEffect(() => {
    const propose = async (context: CompletionContext): Promise<CompletionResult | null> => {
      const before = context.state.sliceDoc(0, context.pos);
      if (!context.explicit && !now.current.asks.test(before)) return null;
      const found = await now.current.complete(context.state.doc.toString(), [...before].length, context.explicit);
      if (!found?.proposals.length || context.aborted) return null;
      const options = found.proposals.map((p) => ({
        label: p.label,
        apply: p.apply,
        type: KINDS[p.kind]!,
        detail: p.detail,
        boost: p.boost,
      }));
      return {
        from: context.pos - found.typed.length,
        options,
        ...(found.complete ? { validFor: /^[\p{L}\p{N}_$]*$/u } : {}),
      };
    };
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: "",
        extensions: [
          lineNumbers(),
          history(),
          bracketMatching(),
          highlightSelectionMatches(),
          search({ top: true }),
          autocompletion({ override: [propose], icons: false, maxRenderedOptions: 60 }),
          keymap.of([
            { key: "Mod-Enter", preventDefault: true, run: () => (now.current.onPreview(), true) },
            { key: "Mod-s", preventDefault: true, run: () => (now.current.onSave(), true) },
            { key: "Tab", run: acceptCompletion }, // else it leaves the editor, as everywhere; Mod-] and Mod-[ indent
            ...completionKeymap,
            ...searchKeymap,
            ...defaultKeymap,
            ...historyKeymap,
          ]),
          linter(null, { tooltipFilter: () => [] }),
          diagnosticTip(() => now.current.diagnostics ?? []),
          colours.current.of([]),
          parameterMarks,
          ...looks,
          EditorView.contentAttributes.of({ "aria-label": "Statement", "aria-description": KEYS }),
          EditorView.cspNonce.of(cspNonce),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) now.current.onChange(update.state.doc.toString());
          }),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, []);
  // The editor stays the one it is, with the keyboard in it, when it is known how its language is coloured.
  useEffect(() => {
    view.current?.dispatch({ effects: colours.current.reconfigure(colouringOf(language)) });
  }, [language]);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text)
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || !diagnostics) return;
    const doc = editor.state.doc.toString();
    const shown = diagnostics.map((diagnostic): Mark => {
      const [from, to] = spanOf(doc, diagnostic);
      return {
        from,
        to,
        severity: diagnostic.severity === "note" ? "info" : diagnostic.severity,
        message: `${diagnostic.message} ${diagnostic.hint}`.trim(),
      };
    });
    editor.dispatch(setDiagnostics(editor.state, shown));
  }, [diagnostics]);
  return <div ref={box} className="sql-editor" />;
}
