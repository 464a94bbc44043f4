// The making of the test pieces.
import type { TestPieces } from "../../api/client";

/** How the making of test pieces goes on, or why some are missing. */
export function Pieces({ pieces }: { pieces: TestPieces }) {
  if (pieces.problem) return <p className="mb-4 rounded-lg bg-amber-wash px-4 py-3">⚠ {pieces.problem}</p>;
  if (!pieces.making) return null;
  return (
    <p role="status" className="mb-4 rounded-lg bg-accent-wash px-4 py-3">
      Test pieces are being made, once: {pieces.made} of {pieces.of} are there, now “{pieces.making}”.
      <progress aria-label="Test pieces" className="mt-2" max={pieces.of} value={pieces.made} />
    </p>
  );
}
