import { Command as Cmdk } from "cmdk";
import { useDeferredValue, useState } from "react";
import { useNavigate } from "react-router";
import { useFlags } from "../api/queries";
import { useUnits } from "../api/targeting";
import { Dialog } from "../ui/dialog";
import type { Key } from "./keys";

export interface Destination {
  group: string;
  label: string;
  to: string;
}

interface PaletteProps {
  project: string;
  environments: string[];
  night: string; // the environment that matters most
  places: Destination[];
  acts: { label: string; act: () => void }[];
  onClose: () => void;
}

const shown = 8; // of a group at a time

/** Palette goes anywhere by typing: pages, flags and units that the service finds, and what can be done. A
    flag is chosen first, the environment second. */
export default function Palette({ project, environments, night, places, acts, onClose }: PaletteProps) {
  const [typed, setTyped] = useState("");
  const [flag, setFlag] = useState<string>();
  const go = useNavigate();
  const text = useDeferredValue(typed.trim());
  const flags = useFlags(project, text === "" ? "" : `"${text.replaceAll('"', "")}"`, shown, flag === undefined);
  const units = useUnits(project, night, text.length > 1 && flag === undefined ? { has: text } : undefined);
  // An answer about what was typed before would be taken by who is quick.
  const fresh = text === typed.trim() && !flags.isPlaceholderData;
  const has = (label: string) => label.toLowerCase().includes(typed.trim().toLowerCase());
  const leave = (to: string) => {
    onClose();
    void go(to);
  };
  const back = () => {
    setFlag(undefined);
    setTyped("");
  };
  const groups = [...new Set(places.map((p) => p.group))];
  return (
    <Dialog open onClose={flag === undefined ? onClose : back} title={flag === undefined ? "Go to" : `Go to ${flag} in`}>
      <Cmdk key={flag ?? ""} label={flag === undefined ? "Go to" : "Environment"} shouldFilter={false}>
        <Cmdk.Input
          autoFocus
          aria-label={flag === undefined ? "Go to" : "Environment"}
          placeholder={flag === undefined ? "a flag, a page, a unit, a stop ..." : "an environment"}
          className="w-full rounded border border-edge bg-page px-3 py-2"
          value={typed}
          onValueChange={setTyped}
          onKeyDown={(e) => {
            if (e.key === "Backspace" && typed === "" && flag !== undefined) back();
          }}
        />
        <Cmdk.List className="mt-2 max-h-[60vh] overflow-auto">
          <Cmdk.Empty className="px-2 py-3 text-soft">nothing has this name</Cmdk.Empty>
          {flag !== undefined && (
            <>
              <Group heading="Environments">
                {environments.filter(has).map((e) => (
                  <Item key={e} value={`in ${e}`} onSelect={() => leave(`/p/${project}/${e}/flags/${flag}`)}>
                    {flag} in {e}
                  </Item>
                ))}
              </Group>
              <Group heading="Why">
                {environments.filter(has).slice(0, shown).map((e) => (
                  <Item key={e} value={`why ${e}`} onSelect={() => leave(`/p/${project}/${e}/why?flag=${flag}`)}>
                    Why {flag} in {e}
                  </Item>
                ))}
              </Group>
            </>
          )}
          {flag === undefined && (
            <>
              <Group heading="Flags">
                {(fresh ? (flags.data?.flags ?? []) : []).map((f) => (
                  <Item
                    key={f.key}
                    value={`flag ${f.key}`}
                    onSelect={() => {
                      setFlag(f.key);
                      setTyped("");
                    }}
                  >
                    <span className="font-mono text-[13px]">{f.key}</span> <span className="text-soft">{f.title}</span>
                  </Item>
                ))}
              </Group>
              {groups.map((g) => (
                <Group key={g} heading={g}>
                  {places
                    .filter((p) => p.group === g && has(p.label))
                    .slice(0, shown)
                    .map((p) => (
                      <Item key={p.label} value={p.label} onSelect={() => leave(p.to)}>
                        {p.label}
                      </Item>
                    ))}
                </Group>
              ))}
              <Group heading="Actions">
                {acts
                  .filter((a) => has(a.label))
                  .map((a) => (
                    <Item
                      key={a.label}
                      value={a.label}
                      onSelect={() => {
                        onClose();
                        a.act();
                      }}
                    >
                      {a.label}
                    </Item>
                  ))}
              </Group>
              {text.length > 1 && (
                <Group heading={`Units in ${night}`}>
                  {(fresh && !units.isPlaceholderData ? (units.data?.items ?? []) : []).slice(0, shown).map((u) => (
                    <Item key={u.unit} value={`unit ${u.unit}`} onSelect={() => leave(`/p/${project}/${night}/population/unit?unit=${encodeURIComponent(u.unit)}`)}>
                      <span className="font-mono text-[13px]">{u.unit}</span>
                    </Item>
                  ))}
                </Group>
              )}
            </>
          )}
        </Cmdk.List>
      </Cmdk>
    </Dialog>
  );
}

function Group({ heading, children }: { heading: string; children: React.ReactNode }) {
  return (
    <Cmdk.Group heading={heading} className="[&:not(:has([cmdk-item]))]:hidden [&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:pt-2 [&_[cmdk-group-heading]]:text-xs [&_[cmdk-group-heading]]:text-soft">
      {children}
    </Cmdk.Group>
  );
}

function Item({ value, onSelect, children }: { value: string; onSelect: () => void; children: React.ReactNode }) {
  return (
    <Cmdk.Item value={value} onSelect={onSelect} className="cursor-pointer rounded px-2 py-1.5 data-[selected=true]:bg-well">
      {children}
    </Cmdk.Item>
  );
}

/** Keys lists the shortcuts. */
export function Keys({ keys, onClose }: { keys: Key[]; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} title="Keys">
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-2">
        {keys.map((k) => (
          <div key={k.shown} className="contents">
            <dt>
              <kbd className="rounded border border-edge px-1.5 py-0.5 text-xs">{k.shown}</kbd>
            </dt>
            <dd>{k.does}</dd>
          </div>
        ))}
      </dl>
    </Dialog>
  );
}
