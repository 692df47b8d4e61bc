import type { ReactNode } from "react";
import { Button } from "antd";
import { KeptForm, type Kept } from "./KeptForm";
import "./part.css";

interface Props<Fields> extends Kept<Fields> {
  title: string;
  okText: string;
  pending: boolean;
  onLeave: () => void;
}

/** A form too large for a dialog, on a page of its own. */
export function FormPage<Fields extends object>(props: Props<Fields>) {
  const { title, okText, pending, onLeave, children, ...rest } = props;
  return (
    <div className="page">
      <header className="head">
        <h1>{title}</h1>
      </header>
      <KeptForm {...rest} scrollToFirstError={{ focus: true, block: "center" }}>
        {children}
        <div className="save-bar">
          <div className="filters">
            <Button type="primary" htmlType="submit" loading={pending}>
              {okText}
            </Button>
            <Button onClick={onLeave}>Back</Button>
          </div>
        </div>
      </KeptForm>
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
