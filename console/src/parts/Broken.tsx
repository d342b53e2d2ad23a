import { Button, Result } from "antd";
import { useRouteError } from "react-router";

/** Takes the place of a page that could not be shown. */
export function Broken() {
  const error = useRouteError();
  const outdated = error instanceof TypeError && error.message.includes("dynamically imported module");
  return (
    <Result
      status={outdated ? "info" : "error"}
      title={outdated ? "The console was updated meanwhile" : "This page cannot be shown"}
      subTitle={
        outdated
          ? "Load it again to continue with the new one."
          : "Nothing was changed by that. What went wrong here: " +
            (error instanceof Error ? error.message : String(error))
      }
      extra={
        <Button type="primary" onClick={() => window.location.reload()}>
          Load the page again
        </Button>
      }
    />
  );
}
