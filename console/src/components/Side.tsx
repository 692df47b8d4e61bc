import { useState, useSyncExternalStore, type ReactNode } from "react";
import { CloseOutlined } from "@ant-design/icons";
import { Button, Drawer } from "antd";

const room = matchMedia("(min-width: 1100px)");
const listen = (heard: () => void) => {
  room.addEventListener("change", heard);
  return () => room.removeEventListener("change", heard);
};

/** A page with something beside it: next to it where there is room, a drawer where there is none; closed and opened again
 * by whoever reads. What is typed in it stays. ``opens``: the words of the button that opens it. */
export function Beside({
  title,
  opens,
  side,
  children,
}: {
  title: string;
  opens: string;
  side: ReactNode;
  children: ReactNode;
}) {
  const wide = useSyncExternalStore(listen, () => room.matches);
  const [shut, setShut] = useState(false);
  const [drawn, setDrawn] = useState(false);
  if (!side) return children;
  const hidden = wide ? shut : !drawn;
  const open = () => (wide ? setShut(false) : setDrawn(true));
  return (
    <>
      {hidden && (
        <p className="opens-side">
          <Button type="primary" onClick={open}>
            {opens}
          </Button>
        </p>
      )}
      <div className={wide && !shut ? "with-side" : ""}>
        <div style={{ minWidth: 0 }}>{children}</div>
        {wide ? (
          <section className="card side" aria-label={title} hidden={shut}>
            <header className="side-head">
              <h2>{title}</h2>
              <Button
                type="text"
                size="small"
                icon={<CloseOutlined />}
                aria-label="Close this card"
                onClick={() => setShut(true)}
              />
            </header>
            {side}
          </section>
        ) : (
          <Drawer title={title} open={drawn} forceRender size={360} onClose={() => setDrawn(false)}>
            {side}
          </Drawer>
        )}
      </div>
    </>
  );
}
