import { useRef, type ReactElement } from "react";
import { Dropdown, type MenuProps } from "antd";

type Item = NonNullable<MenuProps["items"]>[number];

/** A button with a menu: opened by the keyboard the arrows are in it at once, and it gives the keyboard back to its button. */
export function Menu({
  items,
  onChoose,
  children,
}: {
  items: Item[];
  onChoose: (key: string) => void;
  children: ReactElement;
}) {
  const box = useRef<HTMLSpanElement>(null);
  const back = () => box.current?.querySelector("button")?.focus();
  return (
    <span ref={box} style={{ display: "contents" }}>
      <Dropdown
        autoFocus
        trigger={["click"]}
        onOpenChange={(open) => {
          if (!open && document.activeElement?.closest(".ant-dropdown")) back();
        }}
        menu={{
          items,
          onClick: ({ key, domEvent }) => {
            domEvent.preventDefault(); // or the key that chose it presses what has the keyboard next
            back(); // first: what opens now gives the keyboard back to where it was
            onChoose(key);
          },
        }}
      >
        {children}
      </Dropdown>
    </span>
  );
}
