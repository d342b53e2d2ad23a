import { Link } from "react-router";
import { KeyGlyph } from "./KeyGlyph";

/** A key by its glyph and name, leading to its page. */
export function KeyName({ name, sha256, onClick }: { name: string; sha256: string; onClick?: () => void }) {
  return (
    <Link to={`/keys/${encodeURIComponent(name)}`} onClick={onClick} className="inline middle nowrap">
      <KeyGlyph sha256={sha256} />
      {name}
    </Link>
  );
}
