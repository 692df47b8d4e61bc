import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Input, InputNumber, Segmented, Select, Switch } from "antd";
import { useState } from "react";
import { api, must, type FormatRecord, type SourceQuery, type OptionRecord, type Output } from "../../api/client";
import { useFormats } from "../../api/useFormats";
import { ProblemNote } from "../../components/ProblemNote";
import { OF_DELIVERY } from "../../lib/decisions";

type Options = Record<string, unknown>;
type Column = { name: string; as?: string; type?: string; pattern?: string };
interface Props {
  formats: string[];
  fileName: string;
  output: Output;
  preview: SourceQuery | undefined;
  /** Whether the rows of its source are made of documents. */
  ofDocuments: boolean;
  onChange: (more: { formats?: string[]; file_name?: string; output?: Output }) => void;
}

/** Every format there is, to tick. */
export function FormatBoxes({
  value,
  onChange,
  ...rest
}: {
  value?: string[];
  onChange?: (next: string[]) => void;
  id?: string;
  "aria-labelledby"?: string;
}) {
  const formats = useFormats();
  return (
    <Checkbox.Group
      {...rest}
      value={value ?? []}
      onChange={(next: string[]) => onChange?.(next)}
      options={(formats.data?.formats ?? []).map((f) => ({ value: f.name, label: f.name, title: f.note }))}
    />
  );
}

const shown = (value: unknown) =>
  value === ""
    ? "nothing"
    : value === "\t"
      ? "tab"
      : value === " "
        ? "space"
        : value === "\u202f"
          ? "narrow space"
          : String(value);
const without = (options: Options, name: string) =>
  Object.fromEntries(Object.entries(options).filter(([key]) => key !== name));

function OptionField({
  option,
  options,
  onChange,
  label,
}: {
  option: OptionRecord;
  options: Options;
  onChange: (next: Options) => void;
  label: string;
}) {
  const value = options[option.name] ?? option.default;
  const set = (next: unknown) =>
    onChange(
      next === option.default || next === null || next === undefined
        ? without(options, option.name)
        : { ...options, [option.name]: next },
    );
  const common = { "aria-label": `${label}: ${option.name}`, size: "small" as const };
  return (
    <>
      <span className={option.name in options ? "mono set" : "mono"}>{option.name}</span>
      {option.kind === "boolean" ? (
        <Switch {...common} checked={value as boolean} onChange={set} />
      ) : option.kind === "choice" ? (
        <Select
          {...common}
          value={value as string}
          onChange={set}
          options={option.choices.map((choice) => ({ value: choice, label: shown(choice) }))}
        />
      ) : option.kind === "integer" ? (
        <InputNumber {...common} min={0} value={value as number} onChange={set} />
      ) : option.kind === "texts" ? (
        <Input.TextArea
          {...common}
          autoSize={{ minRows: 1, maxRows: 4 }}
          value={(value as string[]).join("\n")}
          onChange={(e) => set(e.target.value ? e.target.value.split("\n") : undefined)}
        />
      ) : (
        <Input
          {...common}
          value={value as string}
          placeholder={option.default === "" ? "" : shown(option.default)}
          onChange={(e) => set(e.target.value)}
        />
      )}
      <span className="dim">{option.note}</span>
    </>
  );
}

/** Options of one kind, each with what it does. */
export function OptionsOf({
  title,
  options,
  values,
  onChange,
}: {
  title: string;
  options: OptionRecord[];
  values: Options;
  onChange: (next: Options) => void;
}) {
  return (
    <div className="option-grid" role="group" aria-label={title}>
      {options.map((option) => (
        <OptionField key={option.name} option={option} options={values} onChange={onChange} label={title} />
      ))}
    </div>
  );
}

/** Which columns, in which order, under which names; the preview says which there are. */
function Columns({
  names,
  chosen,
  types,
  onChange,
}: {
  names: string[];
  chosen: Column[];
  types: string[];
  onChange: (next: Column[]) => void;
}) {
  const all: Column[] = chosen.length ? chosen : names.map((name) => ({ name }));
  const left = names.filter((name) => !all.some((column) => column.name === name));
  const put = (next: Column[]) =>
    onChange(
      next.length === names.length &&
        next.every((column, n) => column.name === names[n] && Object.keys(column).length === 1)
        ? []
        : next,
    );
  const change = (at: number, key: keyof Column, value: string) =>
    put(
      all.map((column, n) =>
        n === at ? ({ ...without(column as Options, key), ...(value ? { [key]: value } : {}) } as Column) : column,
      ),
    );
  const move = (at: number, by: number) => {
    const next = [...all];
    next.splice(at + by, 0, ...next.splice(at, 1));
    put(next);
  };
  return (
    <table className="parameters columns">
      <thead>
        <tr>
          <th>Column</th>
          <th>Name in the file</th>
          <th>Type</th>
          <th>Pattern</th>
          <th>Order</th>
        </tr>
      </thead>
      <tbody>
        {all.map((column, at) => (
          <tr key={column.name}>
            <td>
              <Checkbox
                checked
                aria-label={`Leave out ${column.name}`}
                disabled={all.length === 1}
                onChange={() => put(all.filter((_, n) => n !== at))}
              >
                <span className="mono">{column.name}</span>
              </Checkbox>
            </td>
            <td>
              <Input
                size="small"
                aria-label={`Name of ${column.name} in the file`}
                placeholder={column.name}
                value={column.as ?? ""}
                onChange={(e) => change(at, "as", e.target.value)}
              />
            </td>
            <td>
              <Select
                size="small"
                aria-label={`Type of ${column.name}`}
                value={column.type ?? ""}
                onChange={(type: string) => change(at, "type", type)}
                options={[{ value: "", label: "as it is" }, ...types.map((type) => ({ value: type, label: type }))]}
                style={{ width: 110 }}
              />
            </td>
            <td>
              <Input
                size="small"
                aria-label={`Pattern of ${column.name}`}
                placeholder="%d/%m/%Y or 0.00"
                value={column.pattern ?? ""}
                onChange={(e) => change(at, "pattern", e.target.value)}
              />
            </td>
            <td style={{ whiteSpace: "nowrap" }}>
              <Button
                size="small"
                type="text"
                aria-label={`${column.name} earlier`}
                disabled={at === 0}
                onClick={() => move(at, -1)}
              >
                ↑
              </Button>
              <Button
                size="small"
                type="text"
                aria-label={`${column.name} later`}
                disabled={at === all.length - 1}
                onClick={() => move(at, 1)}
              >
                ↓
              </Button>
            </td>
          </tr>
        ))}
        {left.map((name) => (
          <tr key={name} className="dim">
            <td colSpan={5}>
              <Checkbox checked={false} aria-label={`Take in ${name}`} onChange={() => put([...all, { name }])}>
                <span className="mono">{name}</span>
              </Checkbox>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

type Cell = string | null | { data?: string | null; text?: string };
const plain = (cell: Cell) => (cell === null || typeof cell === "string" ? cell : (cell.data ?? cell.text ?? null));

/** How the first rows of the preview would look in a file, as the options are changed. */
function Sample({ format, output, preview }: { format: FormatRecord; output: Output; preview: SourceQuery }) {
  const result = preview.result;
  const columns = (result?.columns ?? []).map(({ name, kind, source_type }) => ({
    name,
    kind: kind as "text",
    source_type,
  }));
  const rows = ((result?.rows ?? []) as Cell[][]).slice(0, 6).map((row) => row.map(plain));
  const own = { formats: { [format.name]: output.formats?.[format.name] ?? {} }, columns: output.columns ?? [] };
  const sample = useQuery({
    queryKey: ["sample", preview.id, format.name, own],
    retry: false,
    placeholderData: (before) => before,
    queryFn: () => must(api.POST("/api/v1/samples", { body: { format: format.name, output: own, columns, rows } })),
  });
  if (sample.error) return <ProblemNote error={sample.error} />;
  if (!sample.data) return null;
  const { text, warnings } = sample.data;
  return (
    <div className="sample" aria-label={`Sample of ${format.name}`} role="region">
      {text !== null ? (
        <pre tabIndex={0}>{text}</pre>
      ) : (
        <table className="files">
          <thead>
            <tr>
              {sample.data.columns.map((name, n) => (
                <th key={n}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {sample.data.rows.map((row, n) => (
              <tr key={n}>
                {row.map((cell, c) => (
                  <td key={c}>{cell}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {warnings.map((warning) => (
        <div key={warning} className="flag">
          {warning}
        </div>
      ))}
    </div>
  );
}

const counted = (title: string, n: number) => (n ? `${title} (${n})` : title);

/** What is in the files: formats and their options, columns, compression, beside a sample made of the preview. */
export function OutputSettings({ formats, fileName, output, preview, ofDocuments, onChange }: Props) {
  const told = useFormats();
  const [looked, setLooked] = useState("columns");
  if (!told.data) return <ProblemNote error={told.error} />;
  const ticked = told.data.formats.filter((f) => formats.includes(f.name));
  const at = ticked.find((f) => f.name === looked);
  const shape = at ?? ticked[0];
  const names = (preview?.result?.columns ?? []).map((c) => c.name);
  const set = (part: "formats" | "columns" | "files" | "documents", value: unknown) => {
    const next = { ...output, [part]: value };
    if (Object.keys(value as object).length === 0) delete next[part];
    onChange({ output: next });
  };
  const setFormat = (name: string, values: Options) => {
    const all = { ...output.formats, [name]: values };
    if (!Object.keys(values).length) delete all[name];
    set("formats", all);
  };
  const columns = output.columns ?? [];
  const ofFiles = told.data.files.filter((option) => !OF_DELIVERY.includes(option.name));
  const setOfFiles = Object.keys(output.files ?? {}).filter((name) => !OF_DELIVERY.includes(name)).length;
  return (
    <div className="output">
      <div className="settings-grid">
        <span id="draft-formats">Formats</span>
        <FormatBoxes aria-labelledby="draft-formats" value={formats} onChange={(next) => onChange({ formats: next })} />
        <label htmlFor="draft-file">File name</label>
        <Input
          id="draft-file"
          className="mono"
          title="Fields: {extract}, {folder}, {data_date:%Y%m}, {environment}, {statement}, {part}, {run}, {value.NAME}"
          placeholder="{extract}-{data_date}"
          value={fileName}
          onChange={(e) => onChange({ file_name: e.target.value })}
        />
      </div>
      <Segmented<string>
        aria-label="What of the files"
        value={at || looked === "files" || (looked === "documents" && ofDocuments) ? looked : "columns"}
        onChange={setLooked}
        options={[
          { value: "columns", label: counted("Columns", Array.isArray(columns) ? columns.length : 0) },
          ...(ofDocuments
            ? [{ value: "documents", label: counted("Documents", Object.keys(output.documents ?? {}).length) }]
            : []),
          ...ticked.map((f) => ({
            value: f.name,
            label: counted(f.name, Object.keys(output.formats?.[f.name] ?? {}).length),
          })),
          { value: "files", label: counted("Compression and splitting", setOfFiles) },
        ]}
      />
      {at ? (
        <OptionsOf
          title={`Options of ${at.name}`}
          options={at.options}
          values={output.formats?.[at.name] ?? {}}
          onChange={(next) => setFormat(at.name, next)}
        />
      ) : looked === "documents" && ofDocuments ? (
        <OptionsOf
          title="How documents become rows"
          options={told.data.documents}
          values={output.documents ?? {}}
          onChange={(next) => set("documents", next)}
        />
      ) : looked === "files" ? (
        <OptionsOf
          title="Compression and splitting"
          options={ofFiles}
          values={output.files ?? {}}
          onChange={(next) => set("files", next)}
        />
      ) : !Array.isArray(columns) ? (
        <p className="dim">The columns are chosen by statement; change them with: ladle extract save --output</p>
      ) : names.length || columns.length ? (
        <Columns
          names={names.length ? names : columns.map((c) => c.name)}
          chosen={columns}
          types={told.data.column_types}
          onChange={(next) => set("columns", next)}
        />
      ) : (
        <p className="dim">Press Preview above: the columns of its result can be chosen here.</p>
      )}
      {preview?.result?.rows && shape && (
        <>
          <p className="dim" style={{ margin: 0 }}>
            The first rows of the preview, as {shape.name} would have them:
          </p>
          <Sample format={shape} output={output} preview={preview} />
        </>
      )}
    </div>
  );
}
