import { useEffect, type ReactNode } from "react";
import { Button, Form, type FormInstance, type FormProps } from "antd";
import { Problem } from "../api/client";
import { ProblemNote } from "./ProblemNote";
import { useKept } from "./useKept";

export interface Kept<Fields> {
  /** What the form is about, as its values are kept under until they are sent. */
  of: string;
  form: FormInstance<Fields>;
  first?: object | undefined;
  error: unknown;
  onSend: (fields: Fields) => Promise<unknown>;
  children: ReactNode;
}

/** A form whose values are kept until they are sent: leaving it, a click beside it, Esc and a fault lose nothing. Errors stand
 * first and are in view; a refused field says why beside itself. */
export function KeptForm<Fields extends object>({
  of,
  form,
  first,
  error,
  onSend,
  children,
  scrollToFirstError = { focus: true },
}: Kept<Fields> & Pick<FormProps, "scrollToFirstError">) {
  const { box, restored, keep, wasSent, anew } = useKept(of, form);
  useEffect(() => {
    if (!(error instanceof Problem)) return;
    const field = error.facts.field ?? error.facts.parameter;
    if (typeof field !== "string") return;
    const name = error.facts.parameter === field ? ["values", field] : field.split(".");
    form.setFields([{ name: name as never, errors: [[error.message, error.hint].join(" ")] }]);
  }, [error, form]);
  const send = async (fields: Fields) => {
    try {
      await onSend(fields);
    } catch {
      return; // the error is shown, and what was typed is kept
    }
    wasSent();
  };
  return (
    <div ref={box}>
      {restored && (
        <p className="said-line" role="status">
          <span>As you left it.</span>
          <Button size="small" type="text" onClick={anew}>
            Begin anew
          </Button>
        </p>
      )}
      <ProblemNote error={error} shown />
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        {...(first ? { initialValues: first } : {})}
        scrollToFirstError={scrollToFirstError}
        onValuesChange={keep}
        onFinish={(fields) => void send(fields)}
      >
        {children}
      </Form>
    </div>
  );
}
