/** The way from a connected library to lighter pages: what is done is ticked by what is so, the next thing leads on. */

import { Check } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Library, Savings } from "../api/client";
import { useMay } from "../api/people";
import { useJobs, useMachine, usePerson } from "../api/queries";
import { useSitePages } from "../api/weighing";
import { keep, kept } from "../look/kept";
import { addressOf } from "../pages";
import { Button, Card } from "./ui";

interface FirstStep {
  name: string;
  /** What is done there, and why. */
  what: string;
  done: boolean;
  to: string;
}

export function FirstSteps({ library, sent }: { library: Library; sent: Savings["sent"] | undefined }) {
  const name = `first-steps-${library.slug}`;
  const [skipped, setSkipped] = useState(() => kept(name) === "skipped");
  const may = useMay(library.slug);
  const skip = (wanted: boolean) => {
    keep(name, wanted ? "skipped" : "");
    setSkipped(wanted);
  };
  if (!may("treat")) return null;
  if (skipped)
    return (
      <p className="text-sm lg:col-span-3">
        <button type="button" className="text-plum underline" onClick={() => skip(false)}>
          Show the first steps
        </button>
      </p>
    );
  return <Steps library={library} sent={sent} onSkip={() => skip(true)} />;
}

function Steps({
  library,
  sent,
  onSkip,
}: {
  library: Library;
  sent: Savings["sent"] | undefined;
  onSkip: () => void;
}) {
  const steps = useSteps(library, sent);
  if (steps === null || steps.every((step) => step.done)) return null;
  const next = steps.find((step) => !step.done);
  const done = steps.filter((step) => step.done).length;
  return (
    <Card
      className="lg:col-span-3"
      title="First steps"
      aside={
        <span className="flex items-center gap-3 text-sm text-quiet">
          {done} of {steps.length} done
          <Button onClick={onSkip}>Skip</Button>
        </span>
      }
    >
      <ol className="grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
        {steps.map((step, index) => (
          <li
            key={step.name}
            aria-current={step === next ? "step" : undefined}
            className={`flex flex-col rounded-md border p-3 ${step === next ? "border-plum" : "border-line"}`}
          >
            <span className="flex items-center gap-2">
              <span
                className={`flex h-6 w-6 shrink-0 items-center justify-center rounded-full text-xs font-semibold ${step.done ? "bg-leaf text-surface" : "bg-sunken"}`}
              >
                {step.done ? <Check size={14} aria-label="done" /> : index + 1}
              </span>
              {step.to.startsWith("#") ? (
                <a href={step.to} className={LEADS}>
                  {step.name}
                </a>
              ) : (
                <Link to={step.to} className={LEADS}>
                  {step.name}
                </Link>
              )}
            </span>
            <span className="mt-1 text-sm text-quiet">{step.what}</span>
          </li>
        ))}
      </ol>
    </Card>
  );
}

const LEADS = "font-semibold text-plum hover:underline";

/** What is done is read off the library, and never noted; null until that is known. */
function useSteps(library: Library, sent: Savings["sent"] | undefined): FirstStep[] | null {
  const { slug } = library;
  const service = usePerson().data?.service ?? false;
  const machine = useMachine(service);
  const forecasts = useJobs(slug, "forecast");
  const pages = useSitePages(slug);
  if (forecasts.isPending || pages.isPending) return null;
  const treated = library.files_treated > 0;
  const served = library.delivery.public || (sent?.requests ?? 0) > 0;
  return [
    {
      name: "Survey",
      what: "What is there, and what it weighs.",
      done: library.last_survey?.state === "finished",
      to: addressOf(slug, ""),
    },
    ...(service
      ? [
          {
            name: "Check the machine",
            what:
              machine.data?.verdict === "broken" ? "Something is missing." : "Formats, disk space, worker.",
            done: machine.data !== undefined && machine.data.verdict !== "broken",
            to: "/service/machine",
          },
        ]
      : []),
    {
      name: "Forecast",
      what: "What could be saved, from a sample of these pictures.",
      done: treated || forecasts.data?.some((job) => job.state === "finished") === true,
      to: "#forecast",
    },
    {
      name: "Weigh a page",
      what: "What visitors load now, to compare with later.",
      done: pages.data?.some((page) => page.latest.length > 0) === true,
      to: addressOf(slug, "weights"),
    },
    {
      name: "Choose a level by eye",
      what: "On some of these pictures, original and result side by side.",
      done: treated || library.recipe_version > 1,
      to: addressOf(slug, "treat/recipe"),
    },
    {
      name: "First run",
      what: "Makes the files light. Originals stay in the backup.",
      done: treated,
      to: addressOf(slug, "treat"),
    },
    {
      name: "Serve",
      what: "So that pages show the light pictures.",
      done: served,
      to: addressOf(slug, "serve"),
    },
  ];
}
