import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, must } from "../../api/client";
import { Button, Page, Problem, TextField, Time } from "../../ui/controls";

/** Device lets a program in that waits under a code, such as the command line: both sides show the same code. */
export default function Device() {
  const [query, setQuery] = useSearchParams();
  const code = query.get("code") ?? "";
  const [typed, setTyped] = useState(code);
  const path = { device: code };
  const ask = useQuery({ queryKey: ["device", code], enabled: code !== "", retry: false, queryFn: () => must(api.GET("/api/v1/me/devices/{device}", { params: { path } })) });
  const answer = useMutation({ mutationFn: (allow: boolean) => must(api.POST("/api/v1/me/devices/{device}", { params: { path }, body: { allow } })) });
  return (
    <Page title="Let a program in">
      <div className="flex max-w-md flex-col gap-3 rounded border border-line bg-sheet p-5">
        {answer.isSuccess ? (
          <p role="status" className="text-base">
            {answer.variables ? "It is let in, in your name: go on where it runs. Its token stands under your name, where you can take it away." : "It is not let in."}
          </p>
        ) : code === "" || ask.error ? (
          <form
            className="flex flex-col gap-3"
            onSubmit={(e) => {
              e.preventDefault();
              setQuery({ code: typed.trim() });
            }}
          >
            <TextField label="Code" hint="The program shows it." required autoFocus autoCapitalize="characters" autoComplete="off" className="font-mono" value={typed} onChange={(e) => setTyped(e.target.value)} />
            <Problem error={ask.error} />
            <Button tone="lever" type="submit" className="self-start">
              Find it
            </Button>
          </form>
        ) : (
          ask.data && (
            <>
              <p className="text-center font-mono text-2xl tracking-widest" aria-label="the code">
                {ask.data.code.slice(0, 4)}-{ask.data.code.slice(4)}
              </p>
              <p>
                <b className="font-medium break-words">{ask.data.name}</b> asks from {ask.data.address}, <Time near ms={ask.data.created} />. It will have your rights for 90 days.
              </p>
              <p>Let it in only if you started it yourself, and it shows this code.</p>
              <div className="flex flex-wrap gap-3">
                <Button tone="lever" disabled={answer.isPending} onClick={() => answer.mutate(true)}>
                  Let it in
                </Button>
                <Button disabled={answer.isPending} onClick={() => answer.mutate(false)}>
                  Do not
                </Button>
              </div>
              <Problem error={answer.error} />
            </>
          )
        )}
      </div>
    </Page>
  );
}
