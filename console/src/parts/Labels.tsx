import { Tag } from "antd";
import { Link } from "react-router";

/** Labels, each leading to the list narrowed to it. */
export function Labels({ labels, list }: { labels: Record<string, string>; list: string }) {
  return (
    <>
      {Object.keys(labels)
        .sort()
        .map((k) => (
          <Link key={k} to={`${list}?label=${encodeURIComponent(`${k}=${labels[k]}`)}`}>
            <Tag className="pressable">
              {k}={labels[k]}
            </Tag>
          </Link>
        ))}
    </>
  );
}
