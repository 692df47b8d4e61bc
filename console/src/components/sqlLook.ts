/** How statements look, in the editor and where they are only read. */
import { sql, SQLDialect } from "@codemirror/lang-sql";
import { HighlightStyle, StreamLanguage, syntaxHighlighting, type StringStream } from "@codemirror/language";
import {
  Decoration,
  EditorView,
  MatchDecorator,
  ViewPlugin,
  type DecorationSet,
  type ViewUpdate,
} from "@codemirror/view";
import { tags } from "@lezer/highlight";
import type { Extension } from "@codemirror/state";
import type { Language } from "../api/useEngines";

const colours = HighlightStyle.define([
  { tag: tags.keyword, color: "var(--pl-accent)", fontWeight: "600" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--pl-doneInk)" },
  { tag: [tags.number, tags.bool, tags.null], color: "var(--pl-run)" },
  { tag: [tags.lineComment, tags.blockComment], color: "var(--pl-ink3)", fontStyle: "italic" },
]);

const theme = EditorView.theme({
  "&": {
    fontSize: "13px",
    backgroundColor: "var(--pl-surface)",
    border: "1px solid var(--pl-line)",
    borderRadius: "4px",
  },
  "&.cm-focused": { outline: "2px solid var(--pl-accent)" },
  ".cm-scroller": { fontFamily: "var(--mono)", fontVariantLigatures: "none", maxHeight: "46vh" },
  ".cm-gutters": { backgroundColor: "var(--pl-surface)", color: "var(--pl-ink3)", border: "none" },
  ".cm-content": { caretColor: "var(--pl-ink)" },
  ".cm-cursor": { borderLeftColor: "var(--pl-ink)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--pl-runTint) !important" },
  ".cm-parameter": { color: "var(--pl-late)", fontWeight: "600" },
});

const matcher = new MatchDecorator({
  regexp: /(?<![:\w])::?([A-Za-z_]\w*)/g,
  decoration: (m) => (m[0].startsWith("::") ? null : Decoration.mark({ class: "cm-parameter" })),
});
export const parameterMarks = ViewPlugin.fromClass(
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

/** JSON with comments: keys as words of the language, then strings, numbers, what else there is. */
const json = StreamLanguage.define<{ within: boolean }>({
  startState: () => ({ within: false }),
  token: (stream: StringStream, state) => {
    if (state.within || stream.match("/*")) {
      state.within = !stream.match(/^.*?\*\//);
      if (state.within) stream.skipToEnd();
      return "blockComment";
    }
    if (stream.match("//")) {
      stream.skipToEnd();
      return "lineComment";
    }
    if (stream.match(/^"(?:[^"\\]|\\.)*"?/)) return stream.match(/^\s*:(?!\w)/, false) ? "keyword" : "string";
    if (stream.match(/^-?\d[\d.eE+-]*/)) return "number";
    if (stream.match(/^(?:true|false)\b/)) return "bool";
    if (stream.match(/^null\b/)) return "null";
    stream.next();
    return null;
  },
});

const made = new Map<string, Extension>();

/** How an editor colours a language, from what the service tells of it; as plain text where it tells nothing. */
export function colouringOf(language: Language | undefined): Extension {
  const facts = language?.editor;
  if (!language || !facts) return [];
  if (!made.has(language.name)) {
    made.set(
      language.name,
      facts.syntax === "json"
        ? json
        : sql({
            dialect: SQLDialect.define({
              keywords: facts.words.join(" "),
              types: facts.types.join(" "),
              identifierQuotes: facts.name_quotes,
              doubleQuotedStrings: facts.double_quoted_strings,
              backslashEscapes: facts.backslash_escapes,
              doubleDollarQuotedStrings: facts.dollar_quoted_strings,
              hashComments: facts.hash_comments,
              spaceAfterDashes: facts.hash_comments,
            }),
          }),
    );
  }
  return made.get(language.name)!;
}
export const looks = [syntaxHighlighting(colours), theme];
