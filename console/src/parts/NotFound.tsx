import { Button, Result } from "antd";
import { Link } from "react-router";

export function NotFound() {
  return (
    <Result
      status="404"
      title="There is no such page"
      extra={
        <Link to="/">
          <Button type="primary">To the first page</Button>
        </Link>
      }
    />
  );
}
