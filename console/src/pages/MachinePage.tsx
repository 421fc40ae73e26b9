/** The check of the machine: each line fine, or what to do. */

import { AlertTriangle, Check, RefreshCw, X } from "lucide-react";
import { useMachine } from "../api/queries";
import { Button, Card, ErrorNote, PageTitle, Shape } from "../parts/ui";

const SIGNS = {
  fine: <Check size={18} className="text-leaf" aria-label="fine" />,
  warning: <AlertTriangle size={18} className="text-clay" aria-label="warning" />,
  broken: <X size={18} className="text-clay" aria-label="broken" />,
};
const SAID = {
  fine: "Everything is fine.",
  warning: "It works. See the marked lines.",
  broken: "Something is missing.",
};

export function MachinePage() {
  const machine = useMachine();
  return (
    <>
      <PageTitle
        aside={
          <Button busy={machine.isFetching} onClick={() => void machine.refetch()}>
            <RefreshCw size={16} /> Check again
          </Button>
        }
      >
        The machine
      </PageTitle>
      {machine.isPending && <Shape className="h-96" />}
      {machine.isError && <ErrorNote error={machine.error} again={() => void machine.refetch()} />}
      {machine.data && (
        <Card title={SAID[machine.data.verdict]}>
          <ul className="divide-y divide-line">
            {machine.data.lines.map((line) => (
              <li
                key={`${line.what} ${line.detail}`}
                className="grid grid-cols-[1.5rem_minmax(0,1fr)] gap-x-2 py-2.5 sm:grid-cols-[1.5rem_13rem_minmax(0,1fr)]"
              >
                <span className="pt-0.5">{SIGNS[line.verdict]}</span>
                <span className="break-words font-semibold">{line.what}</span>
                <span className="col-start-2 break-words sm:col-start-3">
                  <span className="text-quiet">{line.detail}</span>
                  {line.todo && <span className="block text-clay">{line.todo}</span>}
                </span>
              </li>
            ))}
          </ul>
        </Card>
      )}
    </>
  );
}
