import { useRouteError } from "react-router";
import { ErrorBox } from "./ErrorBox";
import "./plain-button.css";

/** What stands in place of a view that could not be drawn; the others go on working. */
export function ViewFailed() {
  return <Failed error={useRouteError()} says="This view could not be drawn." />;
}

export function Failed({ error, says }: { error: unknown; says: string }) {
  return (
    <div className="page-failed">
      <ErrorBox error={error}>
        <p className="muted">{says} Nothing was lost; reloading the page may help.</p>
        <button type="button" className="plain-button" data-outlined onClick={() => location.reload()}>
          Reload
        </button>
      </ErrorBox>
    </div>
  );
}
