import { TriangleAlert } from "lucide-react";
import { Refusal } from "../api/client";
import "./page-state.css";

/** An error as something to act on: what happened, all problems, what stays as it was. */
export function ErrorBox({ error, children }: { error: unknown; children?: React.ReactNode }) {
  const lines =
    error instanceof Refusal && error.problems.length ? error.problems : [error instanceof Error ? error.message : String(error)];
  return (
    <div role="alert" className="error-box">
      <TriangleAlert size={16} />
      <div>
        {lines.map((line) => (
          <p key={line}>{line}</p>
        ))}
        {children}
      </div>
    </div>
  );
}
