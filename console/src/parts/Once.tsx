/** Something secret that is shown this once, to be copied. */

import { useState } from "react";
import { Button } from "./ui";

export function Once({
  label,
  value,
  children,
}: {
  label: string;
  value: string;
  children?: React.ReactNode;
}) {
  const [copied, setCopied] = useState(false);
  const copy = () => {
    void navigator.clipboard.writeText(value).then(
      () => setCopied(true),
      () => setCopied(false),
    );
  };
  return (
    <div role="status" className="rounded-[5px] border border-leaf bg-leaf-soft p-4">
      <p className="text-sm font-semibold">{label}</p>
      <code className="my-2 block break-all rounded bg-surface px-3 py-2 font-mono text-sm">{value}</code>
      <div className="flex flex-wrap items-center gap-3">
        <Button onClick={copy}>{copied ? "Copied" : "Copy"}</Button>
        <span className="text-sm text-quiet">{children ?? "It is shown this once."}</span>
      </div>
    </div>
  );
}
