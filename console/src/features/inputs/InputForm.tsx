import { useQuery } from "@tanstack/react-query";
import { Checkbox, Input as Text, InputNumber, Select } from "antd";
import { api, must, type Parameter } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { givenWords } from "../../lib/decisions";
import { useLookups } from "../lookups/useLookups";
import {
  begun,
  constantOf,
  isDrawn,
  isHanded,
  turnedTo,
  typedOf,
  WAYS,
  wayOf,
  withSetting,
  withValue,
  type Given,
  type Input,
  type Way,
} from "./inputs";

const EXTRACT = "extract:";
const LOOKUP = "lookup:";

/** Where one parameter of the input gets its value from. */
function Value({
  parameter,
  value,
  label,
  own,
  others,
  onChange,
}: {
  parameter: Parameter;
  value: Given;
  label: string;
  /** Parameters of the combination. */
  own: string[];
  /** Names of the other inputs. */
  others: string[];
  onChange: (value: Given) => void;
}) {
  const named = (name: string) => ({ value: name, label: name });
  return (
    <div className="filters" style={{ margin: 0 }}>
      <Select<Way>
        size="small"
        showSearch={{ optionFilterProp: "label" }}
        aria-label={`Where ${label} comes from`}
        value={wayOf(value)}
        options={WAYS.filter((way) => way.value !== "column" || parameter.is_list).map((way) => ({ ...way }))}
        onChange={(way) => onChange(begun(way))}
        style={{ width: 200 }}
      />
      {isHanded(value) && (
        <Select
          size="small"
          showSearch={{ optionFilterProp: "label" }}
          aria-label={`Parameter for ${label}`}
          placeholder="which one"
          value={value.parameter || undefined}
          options={own.map(named)}
          onChange={(parameter: string) => onChange({ parameter })}
          style={{ width: 180 }}
        />
      )}
      {isDrawn(value) && (
        <>
          <Select
            size="small"
            showSearch={{ optionFilterProp: "label" }}
            aria-label={`Input for ${label}`}
            placeholder="of which input"
            value={value.input || undefined}
            options={others.map(named)}
            onChange={(input: string) => onChange({ ...value, input })}
            style={{ width: 160 }}
          />
          <Text
            size="small"
            className="mono"
            aria-label={`Column for ${label}`}
            placeholder="column"
            value={value.column}
            onChange={(e) => onChange({ ...value, column: e.target.value })}
            style={{ width: 160 }}
          />
        </>
      )}
      {wayOf(value) === "constant" && (
        <Text
          size="small"
          aria-label={`Value of ${label}`}
          placeholder={parameter.is_list ? "values, separated by commas" : parameter.type}
          value={typedOf(value)}
          onChange={(e) => onChange(constantOf(e.target.value, parameter))}
          style={{ width: 240 }}
        />
      )}
      {wayOf(value) === "own" && <span className="dim">{givenWords(parameter)}</span>}
    </div>
  );
}

/** What one input is, and the values of its parameters. */
export function InputForm({
  input,
  number,
  own,
  others,
  self,
  onChange,
}: {
  input: Input;
  number: number;
  own: string[];
  others: string[];
  /** The combination's own name, which is no input of it. */
  self: string;
  onChange: (input: Input) => void;
}) {
  const extracts = useQuery({ queryKey: ["extracts", "names"], queryFn: () => must(api.GET("/api/v1/extracts")) });
  const lookups = useLookups();
  const chosen = useQuery({
    queryKey: ["extract", input.extract],
    enabled: !!input.extract,
    retry: false,
    queryFn: () => must(api.GET("/api/v1/extracts/{name}", { params: { path: { name: input.extract! } } })),
  });
  const parameters = (input.extract && chosen.data?.revision.parameters) || [];
  const what = input.lookup !== undefined ? LOOKUP + input.lookup : input.extract ? EXTRACT + input.extract : undefined;
  return (
    <div className="step-form">
      <label className="step-field">
        Name in the statement
        <Text
          size="small"
          className="mono"
          aria-label={`Name of input ${number}`}
          value={input.name}
          maxLength={63}
          onChange={(e) => onChange({ ...input, name: e.target.value })}
          style={{ width: 240 }}
        />
      </label>
      <div className="step-field">
        <span>What it is</span>
        <Select<string>
          size="small"
          aria-label={`What input ${number} is`}
          placeholder="the result of an extract, or a lookup"
          showSearch={{ optionFilterProp: "label" }}
          value={what}
          options={[
            {
              label: "Results of extracts",
              options: (extracts.data ?? [])
                .filter((each) => each.name !== self)
                .map((each) => ({ value: EXTRACT + each.name, label: each.name })),
            },
            {
              label: "Lookups",
              options: (lookups.data ?? []).map((each) => ({ value: LOOKUP + each.name, label: each.name })),
            },
          ]}
          onChange={(found) =>
            onChange(
              found.startsWith(LOOKUP)
                ? turnedTo(input, "lookup", found.slice(LOOKUP.length))
                : turnedTo(input, "extract", found.slice(EXTRACT.length)),
            )
          }
          style={{ width: 320 }}
        />
      </div>
      <ProblemNote error={extracts.error ?? lookups.error ?? chosen.error} />
      {parameters.map((parameter) => (
        <div className="step-field" key={parameter.name}>
          <span className="mono" title={parameter.note}>
            {parameter.name}
          </span>
          <Value
            parameter={parameter}
            value={input.values?.[parameter.name]}
            label={`${parameter.name} of input ${number}`}
            own={own}
            others={others}
            onChange={(value) => onChange(withValue(input, parameter.name, value))}
          />
        </div>
      ))}
      {input.extract && (
        <>
          {(input.statement ?? 1) > 1 || /;\s*\S/.test(chosen.data?.revision.statement ?? "") ? (
            <label className="step-field">
              Which statement
              <InputNumber
                size="small"
                aria-label={`Statement of input ${number}`}
                min={1}
                value={input.statement ?? 1}
                onChange={(statement) =>
                  onChange(withSetting(input, "statement", statement && statement > 1 ? statement : 0))
                }
                style={{ width: 80 }}
              />
            </label>
          ) : null}
          <Checkbox checked={!!input.stored} onChange={(e) => onChange(withSetting(input, "stored", e.target.checked))}>
            Take a proven result that is stored already, of the same data date, revision and values
          </Checkbox>
        </>
      )}
    </div>
  );
}
