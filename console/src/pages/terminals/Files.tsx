import { App, Button, Input, Progress } from "antd";
import { useRef, useState } from "react";
import type { VisitFile } from "../../api/client";
import { useVisitFiles } from "../../api/queries";
import { moment, sizeText } from "../../format";
import { ProblemNote } from "../../parts/ProblemNote";
import { putFile, type Upload } from "./upload";

const signs = { file: "▤", folder: "▸", link: "↗", other: "·" };

const within = (folder: string, name: string) => (folder === "/" ? `/${name}` : `${folder}/${name}`);

/** The files of the login of an open visit: folders to go through, files to fetch and to put. */
export function Files({ visit }: { visit: string }) {
  const { modal } = App.useApp();
  const [path, setPath] = useState("");
  const [uploads, setUploads] = useState<Upload[]>([]);
  const choose = useRef<HTMLInputElement>(null);
  const files = useVisitFiles(visit, path);
  const folder = files.data?.path ?? path;
  const put = async (chosen: FileList | null) => {
    for (const file of Array.from(chosen ?? [])) {
      const to = within(folder, file.name);
      const tell = (u: Upload) => setUploads((all) => [...all.filter((o) => o.to !== to), u]);
      let came = await putFile(visit, to, file, false, tell);
      if (came?.code === "file-there") {
        const replace = await modal.confirm({
          title: `Replace ${file.name}?`,
          content: `There is a file of that name in ${folder}.`,
          okText: "Replace it",
          okButtonProps: { danger: true },
          cancelText: "Leave it",
        });
        if (replace) came = await putFile(visit, to, file, true, tell);
        else setUploads((all) => all.filter((o) => o.to !== to));
      }
    }
    void files.refetch();
  };
  return (
    <section
      aria-label="Files"
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        void put(e.dataTransfer.files);
      }}
    >
      <div className="row middle many after-s">
        <Input
          key={folder}
          aria-label="Folder"
          defaultValue={folder}
          className="field-l code"
          onPressEnter={(e) => setPath(e.currentTarget.value)}
        />
        <Button
          disabled={folder === "/" || folder === ""}
          onClick={() => setPath(folder.replace(/\/[^/]*$/, "") || "/")}
        >
          Up
        </Button>
        <Button onClick={() => void files.refetch()}>Read it again</Button>
        <Button type="primary" className="push" disabled={!files.data} onClick={() => choose.current?.click()}>
          Put files here
        </Button>
        <input
          ref={choose}
          type="file"
          multiple
          hidden
          aria-label="Files to put"
          onChange={(e) => {
            void put(e.target.files);
          }}
        />
      </div>
      {uploads.map((u) => (
        <UploadLine key={u.to} of={u} />
      ))}
      {files.error ? (
        <ProblemNote error={files.error} again={() => void files.refetch()} />
      ) : (
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- so that it scrolls by keyboard
        <div className="at-most-high scrolls" tabIndex={0} role="region" aria-label={`What is in ${folder}`}>
          <table className="rows">
            <tbody>
              {files.data?.entries.map((e) => (
                <FileRow key={e.name} of={e} visit={visit} at={within(folder, e.name)} open={setPath} />
              ))}
            </tbody>
          </table>
          {files.data?.entries.length === 0 && <p className="quiet">Nothing is in it.</p>}
          {Boolean(files.data?.left_out) && <p>{files.data?.left_out} more are left out.</p>}
        </div>
      )}
    </section>
  );
}

interface FileRowProps {
  of: VisitFile;
  visit: string;
  at: string;
  open: (path: string) => void;
}

function FileRow({ of: f, visit, at, open }: FileRowProps) {
  return (
    <tr>
      <td>
        <span aria-hidden className="sign-place">
          {signs[f.kind]}
        </span>
        {f.kind === "folder" || f.kind === "link" ? (
          <button type="button" className="link-like" onClick={() => open(at)}>
            {f.name}
          </button>
        ) : (
          f.name
        )}
      </td>
      <td className="to-end">{f.kind === "file" && sizeText(f.size)}</td>
      <td>{moment(f.changed_at)}</td>
      <td className="to-end">
        {f.kind === "file" && (
          <a href={`/api/v1/visits/${visit}/files/content?path=${encodeURIComponent(at)}`} download={f.name}>
            Fetch
          </a>
        )}
      </td>
    </tr>
  );
}

function UploadLine({ of: u }: { of: Upload }) {
  return (
    <div className="row middle" role="status">
      <code>{u.to}</code>
      {u.problem ? (
        <span className="bad">
          {u.problem.detail}
          {u.problem.remedy && `. ${u.problem.remedy}`}
        </span>
      ) : u.done ? (
        <span>is there, {sizeText(u.size)}</span>
      ) : (
        <Progress
          percent={u.size > 0 ? Math.floor((u.sent * 100) / u.size) : 0}
          size="small"
          className="field-l"
          aria-label={`${u.to}, percent sent`}
        />
      )}
    </div>
  );
}
