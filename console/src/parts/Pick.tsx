import { Check, ChevronDown } from "lucide-react";
import { Select } from "radix-ui";

export interface Choice {
  value: string;
  label: string;
  note?: string;
}

/** One of several things, by a menu: a button, or a word within a text. */
export function Pick({ label, value, choices, onChange, word }: { label: string; value: string; choices: Choice[]; onChange: (value: string) => void; word?: { text: string; className: string } }) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      {word ? (
        <Select.Trigger className={word.className} aria-label={`${label}: ${word.text}`}>
          {word.text}
        </Select.Trigger>
      ) : (
        <Select.Trigger className="btn max-w-72" aria-label={label}>
          <span className="truncate">
            <Select.Value placeholder={label} />
          </span>
          <Select.Icon>
            <ChevronDown size={14} className="text-ink-3" aria-hidden="true" />
          </Select.Icon>
        </Select.Trigger>
      )}
      <Select.Portal>
        <Select.Content position="popper" sideOffset={4} className="card z-20 max-h-96 overflow-auto p-1 shadow-lg">
          <Select.Viewport>
            {choices.map((c) => (
              <Select.Item key={c.value} value={c.value} className="flex items-center gap-2 rounded px-2 py-1 outline-none data-[highlighted]:bg-accent-weak data-[highlighted]:text-accent">
                <span className="w-4">
                  <Select.ItemIndicator>
                    <Check size={14} aria-hidden="true" />
                  </Select.ItemIndicator>
                </span>
                <Select.ItemText>{c.label}</Select.ItemText>
                {c.note && <span className="ml-auto pl-4 text-xs text-ink-3">{c.note}</span>}
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
