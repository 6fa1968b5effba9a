import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, type Schema } from "../../api/client";
import { useAbout } from "../../api/hooks";
import { saveFile } from "../../api/file";
import { Button, Failure, When } from "../../ui/basic";
import { CopyButton } from "../../ui/device-settings";
import { Modal, useHeld } from "../../ui/modal";

type Whom = { person?: string; store?: string; group?: string };

/** Makes the links by which people set up their second factor, and shows them once. */
export function Invite({ whom, label, small }: { whom: Whom; label: string; small?: boolean }) {
  const [open, setOpen] = useState(false);
  const mail = useAbout().data?.mail;
  const make = useMutation({
    mutationFn: (byMail: boolean) =>
      call<Schema["Invitations"]>("POST", "/factor-invitations", { ...whom, mail: byMail }),
    onSettled: () => setOpen(true),
  });
  return (
    <>
      <Button needs="assist" primary={!small} disabled={make.isPending} onClick={() => make.mutate(false)}>
        {label}
      </Button>
      {mail && (
        <Button needs="assist" disabled={make.isPending} onClick={() => make.mutate(true)}>
          by mail
        </Button>
      )}
      <Modal open={open} wide onClose={() => setOpen(false)} title="Invitations">
        <Failure error={make.error} />
        {make.data && (make.variables ? <Mailed made={make.data} /> : <Links made={make.data} />)}
      </Modal>
    </>
  );
}

function Mailed({ made }: { made: Schema["Invitations"] }) {
  const problems = made.items.filter((i) => i.problem);
  return (
    <>
      <p className="mb-3">
        {made.items.length - problems.length} of {made.items.length} were sent, each good once, until{" "}
        <When at={made.until} long />, and only with the password.
      </p>
      <table className="grid-table">
        <tbody>
          {[...problems, ...made.items.filter((i) => !i.problem)].slice(0, 50).map((i) => (
            <tr key={i.store + "/" + i.person}>
              <td className="mono font-semibold">{i.person}</td>
              <td className={i.problem ? "text-out" : "text-soft"}>{i.problem ?? `sent to ${i.mailed}`}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Links({ made }: { made: Schema["Invitations"] }) {
  const [kept, setKept] = useState(false);
  const { hold } = useHeld();
  useEffect(() => {
    hold(!kept);
    return () => hold(false);
  }, [kept]);
  const quote = (text: string) => `"${text.replaceAll('"', '""')}"`;
  const file = () => {
    const rows = made.items.map((i) => [i.person, i.display ?? "", i.store, i.link!].map(quote).join(","));
    saveFile("invitations.csv", new Blob(["person,name,store,link\n" + rows.join("\n") + "\n"], { type: "text/csv" }));
    setKept(true);
  };
  return (
    <>
      <p className="mb-3">
        Give each link to its person. It is good once, until <When at={made.until} long />, and only with the password.{" "}
        <b>Shown only here.</b>
      </p>
      <table className="grid-table mb-3">
        <tbody>
          {made.items.slice(0, 50).map((i) => (
            <tr key={i.store + "/" + i.person}>
              <td>
                <span className="mono font-semibold">{i.person}</span>{" "}
                {i.has && <span className="text-[12.5px] text-soft">has a device already</span>}
              </td>
              <td className="mono max-w-[380px] truncate text-[12.5px]" data-secret>
                {i.link!}
              </td>
              <td className="text-right" onClick={() => setKept(true)}>
                <CopyButton text={i.link!} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {made.items.length > 50 && <p className="mb-3">and {made.items.length - 50} more, in the file</p>}
      <Button primary={!kept} onClick={file}>
        Save as a file
      </Button>
    </>
  );
}
