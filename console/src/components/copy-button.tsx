// A button that puts text where it can be pasted from, and says whether it did.
import { useEffect, useState } from "react";
import { Button } from "./basics";

export function CopyButton({ text, children = "Copy" }: { text: string; children?: string }) {
  const [copied, setCopied] = useState<boolean>();
  useEffect(() => {
    if (copied === undefined) return;
    const later = setTimeout(() => setCopied(undefined), 3000);
    return () => clearTimeout(later);
  }, [copied]);
  const copy = () =>
    // Browsers have no clipboard for pages that came without TLS.
    Promise.resolve(navigator.clipboard?.writeText(text) ?? Promise.reject(new Error("no clipboard"))).then(
      () => setCopied(true),
      () => setCopied(false),
    );
  return (
    <>
      <Button onClick={() => void copy()}>{children}</Button>
      <span role="status" className="self-center text-sm text-soft">
        {copied === true && "Copied."}
        {copied === false && "The browser does not allow it: select the text by hand."}
      </span>
    </>
  );
}
