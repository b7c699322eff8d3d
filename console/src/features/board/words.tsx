import { useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { api, must } from "../../api/client";

/** Words says which words find flags. The service knows them, and the command line takes the same. */
export function Words() {
  return (
    <Popover.Root>
      <Popover.Trigger aria-label="words that find flags" className="cursor-pointer text-soft underline hover:text-ink">
        words
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content aria-label="words that find flags" align="end" sideOffset={4} className="z-40 w-[min(38rem,94vw)] rounded border border-edge bg-sheet p-4 text-ink shadow-lg">
          <List />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function List() {
  const words = useQuery({ queryKey: ["words"], staleTime: Infinity, queryFn: () => must(api.GET("/api/v1/words", {})) });
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
      {words.data?.items.map((w) => (
        <div key={w.word} className="contents">
          <dt className="font-mono text-[13px]">{w.word}</dt>
          <dd className="text-soft">{w.says}</dd>
        </div>
      ))}
    </dl>
  );
}
