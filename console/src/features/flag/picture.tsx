import type { Schemas } from "../../api/client";
import type { DraftDocument } from "../../draft/flag";
import { trackSVG } from "../../draw/track-svg";
import { say } from "../../ui/said";
import { Act, Menu } from "../../ui/menu";
import { branchesOf } from "./track";

interface CopyPictureProps {
  flag: string;
  environment: string;
  doc: DraftDocument;
  says: Map<string, Schemas["Said"]>;
  names: string[];
  shift: Schemas["Shift"] | undefined;
  sentence: string;
}

/** CopyPicture gives the track as a picture, for a ticket. */
export function CopyPicture(p: CopyPictureProps) {
  const svg = () => {
    const { total, branches } = branchesOf(p.doc, p.shift);
    const rule = (id: string) => p.doc.rules.find((r) => r.id === id)?.name ?? "end";
    const seen = p.shift !== undefined && p.shift.units.counted > 0;
    return trackSVG({
      title: `${p.flag} in ${p.environment}`,
      sentence: p.sentence.replaceAll("`", ""),
      names: p.names,
      total,
      branches: branches.map((b) => ({ ...b, name: rule(b.id), says: (p.says.get(b.id)?.text ?? "").replaceAll("`", "") })),
      totals: p.names.flatMap((n) => (seen && p.shift!.after[n] ? [{ variant: n, units: p.shift!.after[n].units }] : [])),
    });
  };
  const save = (blob: Blob, kind: string) => {
    const a = document.createElement("a");
    a.href = URL.createObjectURL(blob);
    a.download = `${p.flag}-${p.environment}.${kind}`;
    a.click();
    setTimeout(() => URL.revokeObjectURL(a.href), 10_000);
    say(`Saved: ${a.download}`);
  };
  const copy = async () => {
    const blob = await asPNG(svg());
    try {
      await navigator.clipboard.write([new ClipboardItem({ "image/png": blob })]);
      say("The picture is in the clipboard.");
    } catch {
      save(blob, "png"); // without TLS browsers have no clipboard for pictures
    }
  };
  return (
    <Menu label="Picture">
      <Act onAct={() => void copy()}>Copy as PNG</Act>
      <Act onAct={() => void asPNG(svg()).then((b) => save(b, "png"))}>Save as PNG</Act>
      <Act onAct={() => save(new Blob([svg()], { type: "image/svg+xml" }), "svg")}>Save as SVG</Act>
    </Menu>
  );
}

async function asPNG(svg: string): Promise<Blob> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  canvas.width = image.width * 2; // sharp on fine screens
  canvas.height = image.height * 2;
  canvas.getContext("2d")!.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((resolve, reject) => canvas.toBlob((b) => (b ? resolve(b) : reject(new Error("the browser drew no picture"))), "image/png"));
}
