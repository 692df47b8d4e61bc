import { useEffect, useRef } from "react";
import { defaultKeymap } from "@codemirror/commands";
import { highlightSelectionMatches, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { useLanguage } from "../api/useEngines";
import { cspNonce } from "../app/nonce";
import { FOR_AUTHORS } from "../lib/words";
import { colouringOf, looks, parameterMarks } from "./sqlLook";

/** A statement to read, with highlighting; for those who may not see it, that it is there. */
export function StatementView({ text, engine, label }: { text: string; engine: string; label: string }) {
  return text ? <StatementText text={text} engine={engine} label={label} /> : <p className="dim">{FOR_AUTHORS}</p>;
}

function StatementText({ text, engine, label }: { text: string; engine: string; label: string }) {
  const box = useRef<HTMLDivElement>(null);
  const language = useLanguage(engine);
  useEffect(() => {
    const made = new EditorView({
      parent: box.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          highlightSelectionMatches(),
          keymap.of([...defaultKeymap, ...searchKeymap]),
          colouringOf(language),
          parameterMarks,
          ...looks,
          EditorState.readOnly.of(true),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.cspNonce.of(cspNonce),
        ],
      }),
    });
    made.scrollDOM.tabIndex = 0;
    return () => made.destroy();
  }, [text, language, label]);
  return <div ref={box} />;
}
