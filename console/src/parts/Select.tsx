/** One of several, chosen from a list: the one kind of select in the console. */

import { Check, ChevronDown } from "lucide-react";
import { Select as Radix } from "radix-ui";

export interface Option {
  value: string;
  name: string;
  hint?: string;
}

/** Radix keeps the empty value for "nothing is chosen". */
const NOTHING = "–";

export function Select({
  label,
  value,
  options,
  onChange,
  className = "",
  disabled = false,
  placeholder,
}: {
  label: string;
  value: string;
  options: Option[];
  onChange: (value: string) => void;
  className?: string;
  disabled?: boolean;
  /** What stands there while nothing is chosen. */
  placeholder?: string;
}) {
  return (
    <Radix.Root
      value={placeholder !== undefined ? value : value || NOTHING}
      onValueChange={(now) => onChange(now === NOTHING ? "" : now)}
      disabled={disabled}
    >
      <Radix.Trigger
        aria-label={label}
        className={`flex min-h-9 min-w-0 items-center justify-between gap-2 rounded-[5px] border border-line bg-surface px-3 py-1.5 text-left text-ink hover:border-plum disabled:opacity-55 ${className}`}
      >
        <span className="truncate">
          <Radix.Value placeholder={placeholder} />
        </span>
        <Radix.Icon>
          <ChevronDown size={15} className="shrink-0 text-quiet" />
        </Radix.Icon>
      </Radix.Trigger>
      <Radix.Portal>
        <Radix.Content
          position="popper"
          sideOffset={4}
          className="crate z-50 max-h-[min(24rem,var(--radix-select-content-available-height))] min-w-[var(--radix-select-trigger-width)] max-w-[min(26rem,calc(100vw-1rem))] overflow-hidden"
        >
          <Radix.Viewport className="p-1">
            {options.map((option) => (
              <Radix.Item
                key={option.value}
                value={option.value || NOTHING}
                className="flex cursor-pointer items-start gap-2 rounded px-2 py-1.5 text-sm outline-none data-[highlighted]:bg-plum-soft data-[highlighted]:text-plum"
              >
                <span className="mt-0.5 w-4 shrink-0">
                  <Radix.ItemIndicator>
                    <Check size={15} />
                  </Radix.ItemIndicator>
                </span>
                <span className="min-w-0">
                  <Radix.ItemText>{option.name}</Radix.ItemText>
                  {option.hint && <span className="block text-xs text-quiet">{option.hint}</span>}
                </span>
              </Radix.Item>
            ))}
          </Radix.Viewport>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}
