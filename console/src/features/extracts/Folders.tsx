import { useState } from "react";
import { DownOutlined, RightOutlined } from "@ant-design/icons";
import { count } from "../../lib/words";
import { above, flat, type Folder } from "./folders";

const ALL_OPEN = 25;

function Level(props: {
  folders: Folder[];
  depth: number;
  chosen: string;
  open: Set<string>;
  onOpen: (path: string) => void;
  onChoose: (path: string) => void;
}) {
  const { folders, depth, chosen, open, onOpen, onChoose } = props;
  return (
    <ul>
      {folders.map((f) => (
        <li key={f.path}>
          <span className="folder" style={{ paddingLeft: depth * 14 }}>
            {f.folders.length > 0 ? (
              <button
                type="button"
                className="fold"
                aria-expanded={open.has(f.path)}
                aria-label={`Folders in ${f.path}`}
                onClick={() => onOpen(f.path)}
              >
                {open.has(f.path) ? <DownOutlined /> : <RightOutlined />}
              </button>
            ) : (
              <span className="fold" />
            )}
            <button
              type="button"
              className="choose"
              aria-current={chosen === f.path}
              title={f.path}
              onClick={() => onChoose(f.path)}
            >
              <span>{f.name}</span> <small>{count(f.extracts)}</small>
            </button>
          </span>
          {open.has(f.path) && <Level {...props} folders={f.folders} depth={depth + 1} />}
        </li>
      ))}
    </ul>
  );
}

/** The folders with the number of extracts in each and below it. A small tree is open, of a large one what was chosen. */
export function Folders({
  folders,
  total,
  chosen,
  onChoose,
}: {
  folders: Folder[];
  total: number;
  chosen: string;
  onChoose: (path: string) => void;
}) {
  const [turned, setTurned] = useState<Record<string, boolean>>({});
  const every = flat(folders);
  const way = new Set([chosen, ...above(chosen)]);
  const open = new Set(
    every.map((f) => f.path).filter((path) => turned[path] ?? (every.length <= ALL_OPEN || way.has(path))),
  );
  return (
    <nav className="folders" aria-label="Folders">
      <span className="folder">
        <button type="button" className="choose" aria-current={!chosen} onClick={() => onChoose("")}>
          <span>All folders</span> <small>{count(total)}</small>
        </button>
      </span>
      <Level
        folders={folders}
        depth={0}
        chosen={chosen}
        open={open}
        onOpen={(path) => setTurned((now) => ({ ...now, [path]: !open.has(path) }))}
        onChoose={onChoose}
      />
    </nav>
  );
}
