import { useRef, type ReactNode } from "react";
import { Modal, type ModalProps } from "antd";
import { useFocusBack } from "../lib/useFocusBack";
import { Boundary } from "./Boundary";

const FIELDS = "input:not([disabled]):not([type=hidden]), textarea:not([disabled]), [role=combobox]";

interface Props extends Omit<ModalProps, "open" | "children" | "modalRender" | "afterOpenChange"> {
  /** What cannot be shown where a fault of it is told: "This form". */
  what: string;
  children: ReactNode;
}

/** A dialog. The keyboard begins in its first field and comes back to where it was; a fault inside leaves the page whole. */
export function Dialog({ what, children, ...rest }: Props) {
  useFocusBack();
  const body = useRef<HTMLDivElement>(null);
  const begin = () => {
    const now = document.activeElement;
    if (body.current?.contains(now)) return;
    body.current?.querySelector<HTMLElement>(FIELDS)?.focus({ preventScroll: true });
  };
  return (
    <Modal open {...rest} afterOpenChange={(open) => open && begin()}>
      <div ref={body}>
        <Boundary what={what}>{children}</Boundary>
      </div>
    </Modal>
  );
}
