import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, must } from "../api/client";
import { Button, Problem, Sheet } from "../ui/controls";

/** The private half of an emergency key, which is shown once. */
export function PrivateKey({ pem }: { pem: string }) {
  return (
    <>
      <pre aria-label="emergency key" tabIndex={0} className="overflow-x-auto rounded border border-line p-3 font-mono text-[13px]">
        {pem}
      </pre>
      <a className="underline" href={`data:application/x-pem-file,${encodeURIComponent(pem)}`} download="emergency.pem">
        Save it as emergency.pem
      </a>
    </>
  );
}

/** What emergency orders are signed with, for who keeps the installation. */
export function EmergencyKey() {
  const key = useQuery({ queryKey: ["emergency-key"], queryFn: () => must(api.GET("/api/v1/emergency-key", { params: {} })) });
  const renew = useMutation({
    mutationFn: () => must(api.POST("/api/v1/emergency-key", { params: {}, body: {} })),
    onSuccess: () => void key.refetch(),
  });
  const [armed, setArmed] = useState(false);
  return (
    <Sheet title="Emergency key">
      <p className="mb-2 text-soft">
        Orders that are signed with it stop flags while the service's records are away: <code className="font-mono text-[13px]">greenlever emergency stop FLAG</code>. Its private half is kept nowhere here.
      </p>
      {key.data && <p className="mb-2 break-all">{key.data.public ? <>Public half: <code className="font-mono text-[13px]">{key.data.public}</code></> : "There is none: nobody can give an emergency order."}</p>}
      {renew.data?.private ? (
        <PrivateKey pem={renew.data.private} />
      ) : armed ? (
        <div className="flex flex-wrap items-center gap-3">
          <span>Orders that are signed with the one before are refused then, and all who follow load their rulesets anew.</span>
          <Button tone="lever" disabled={renew.isPending} onClick={() => renew.mutate()}>
            Make a new key now
          </Button>
          <Button onClick={() => setArmed(false)}>Keep this one</Button>
        </div>
      ) : (
        <Button onClick={() => setArmed(true)}>Make a new key</Button>
      )}
      <Problem error={key.error ?? renew.error} />
    </Sheet>
  );
}
