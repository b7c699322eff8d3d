import { Command as Cmdk } from "cmdk";
import { Dialog } from "../ui/controls";

export interface Command {
  group: string;
  label: string;
  run: () => void;
}

/** Palette goes anywhere by typing. */
export function Palette({ open, onClose, commands }: { open: boolean; onClose: () => void; commands: Command[] }) {
  const groups = [...new Set(commands.map((c) => c.group))];
  return (
    <Dialog open={open} onClose={onClose} title="Go to">
      <Cmdk label="Go to">
        <Cmdk.Input placeholder="a flag, a place, a stop ..." className="w-full rounded border border-line bg-page px-3 py-2" />
        <Cmdk.List className="mt-2 max-h-80 overflow-auto">
          <Cmdk.Empty className="px-2 py-3 text-soft">nothing has this name</Cmdk.Empty>
          {groups.map((g) => (
            <Cmdk.Group key={g} heading={g} className="[&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:pt-2 [&_[cmdk-group-heading]]:text-xs [&_[cmdk-group-heading]]:text-soft">
              {commands
                .filter((c) => c.group === g)
                .map((c) => (
                  <Cmdk.Item
                    key={c.label}
                    value={c.label}
                    onSelect={() => {
                      onClose();
                      c.run();
                    }}
                    className="cursor-pointer rounded px-2 py-1 data-[selected=true]:bg-page"
                  >
                    {c.label}
                  </Cmdk.Item>
                ))}
            </Cmdk.Group>
          ))}
        </Cmdk.List>
      </Cmdk>
    </Dialog>
  );
}
