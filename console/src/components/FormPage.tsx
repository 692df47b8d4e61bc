import type { ReactNode } from "react";
import { Button, Form, type FormInstance } from "antd";
import { ProblemNote } from "./ProblemNote";
import { useKeptForm } from "./useKeptForm";
import "./part.css";

interface Props<Fields> {
  title: string;
  /** What the form is about, as its values are kept under until they are sent. */
  of: string;
  form: FormInstance<Fields>;
  first: object;
  okText: string;
  pending: boolean;
  error: unknown;
  onSend: (fields: Fields) => Promise<unknown>;
  onLeave: () => void;
  children: ReactNode;
}

/** A form too large for a dialog, on a page of its own; leaving it loses nothing that was typed. */
export function FormPage<Fields extends object>(props: Props<Fields>) {
  const { title, of, form, first, okText, pending, error, onSend, onLeave, children } = props;
  const { send, note, keep } = useKeptForm(of, form, error, onSend);
  return (
    <div className="page">
      <header className="head">
        <h1>{title}</h1>
      </header>
      {note}
      <ProblemNote error={error} shown />
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={first}
        scrollToFirstError={{ focus: true, block: "center" }}
        onValuesChange={keep}
        onFinish={(fields) => void send(fields)}
      >
        {children}
        <div className="save-bar">
          <div className="filters">
            <Button type="primary" htmlType="submit" loading={pending}>
              {okText}
            </Button>
            <Button onClick={onLeave}>Back</Button>
          </div>
        </div>
      </Form>
    </div>
  );
}

/** Fields that decide one thing, and in a line what that is. */
export function FormPart({ title, words, children }: { title: string; words?: string; children: ReactNode }) {
  return (
    <section className="form-part" aria-label={title}>
      <div>
        <h2>{title}</h2>
        {words && <p className="dim">{words}</p>}
      </div>
      <div className="form-fields">{children}</div>
    </section>
  );
}
