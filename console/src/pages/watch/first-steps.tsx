import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, type Schema } from "../../api/client";
import { useObjects } from "../../api/hooks";
import { Button, Failure } from "../../ui/basic";
import { LinesField, lines, TextField, Tick } from "../../ui/form";
import { formText, readForm } from "../directories/forms";
import { keepMade } from "../clients/client";
import { AddOwner } from "../system/add-owner";
import { Connect } from "../directories/directory-connect";

type Hour = Schema["FirstHour"];

/** Connects a directory, or adds the first account here. */
export function PeopleStep({ done }: { done: () => void }) {
  const [here, setHere] = useState(false);
  const [form, setForm] = useState({ name: "", password: "", group: "", nt: true });
  const connect = useMutation({
    mutationFn: ({ found, password }: { found: object; password: string }) =>
      call("POST", "/directories", { timeoutMillis: 4000, note: "", ...found, bindPassword: password }),
    onSuccess: done,
  });
  const add = useMutation({
    mutationFn: () =>
      call("POST", "/accounts", {
        name: form.name,
        password: form.password,
        groups: lines([form.group]),
        enabled: true,
        keeps: form.nt ? "nt-hash" : "hash",
      }),
    onSuccess: done,
  });
  if (!here) {
    return (
      <>
        <Connect label="Connect it" take={(found, password) => connect.mutate({ found, password })} />
        <Failure error={connect.error} />
        <Button onClick={() => setHere(true)}>No directory: add accounts here</Button>
      </>
    );
  }
  return (
    <form
      className="max-w-[420px]"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <Failure error={add.error} />
      <TextField
        label="Name"
        field="name"
        value={form.name}
        onChange={(name) => setForm({ ...form, name })}
        error={add.error}
      />
      <TextField
        label="Password"
        field="password"
        type="password"
        autoComplete="new-password"
        value={form.password}
        onChange={(password) => setForm({ ...form, password })}
        error={add.error}
      />
      <TextField
        label="Group"
        field="groups"
        hint="What the person belongs to; a VLAN is given by group."
        value={form.group}
        onChange={(group) => setForm({ ...form, group })}
        error={add.error}
      />
      <Tick
        label="Keep the NT hash too, for devices that use PEAP-MSCHAPv2"
        checked={form.nt}
        onChange={(nt) => setForm({ ...form, nt })}
      />
      <div className="flex gap-2">
        <Button primary type="submit" needs="assist" disabled={add.isPending}>
          Add the account
        </Button>
        <Button onClick={() => setHere(false)}>Connect a directory instead</Button>
      </div>
    </form>
  );
}

/** Makes the realm that is proposed. */
export function NamesStep({ hour, done }: { hour: Hour; done: () => void }) {
  const [name, setName] = useState<string>();
  const [forms, setForms] = useState<string[]>();
  const proposed = hour.realm;
  const save = useMutation({
    mutationFn: () =>
      call("POST", "/realms", {
        name: name ?? proposed?.name,
        forms: lines(forms ?? proposed!.forms.map(formText)).map(readForm),
        rewrite: proposed?.rewrite,
        lookup: proposed?.lookup ?? [],
        note: "",
      }),
    onSuccess: done,
  });
  if (!proposed) return null;
  return (
    <form
      className="max-w-[420px]"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Failure error={save.error} />
      <TextField
        label="Name of the realm"
        field="name"
        value={name ?? proposed.name}
        onChange={setName}
        error={save.error}
      />
      <LinesField
        label="Name forms"
        field="forms"
        hint="One per line: @ and a domain, a short name and \, or bare."
        value={forms ?? proposed.forms.map(formText)}
        onChange={setForms}
        error={save.error}
      />
      <p className="hint mb-2">Looked up in {proposed.lookup.map((l) => l.store).join(", then ")}.</p>
      <Button primary type="submit" needs="configure" disabled={save.isPending}>
        Make it
      </Button>
    </form>
  );
}

/** Makes an authority and a server certificate. */
export function CertificateStep({ hour, done }: { hour: Hour; done: () => void }) {
  const [name, setName] = useState<string>();
  const save = useMutation({
    mutationFn: () => call("POST", "/first-hour/certificate", { name: name ?? hour.serverName }),
    onSuccess: done,
  });
  return (
    <form
      className="max-w-[420px]"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Failure error={save.error} />
      <TextField
        label="DNS name of this server"
        field="name"
        mono
        hint="Devices compare it. An authority of your own is made, which they have to trust: download it under Certificates."
        value={name ?? hour.serverName}
        onChange={setName}
        error={save.error}
      />
      <Button primary type="submit" needs="configure" disabled={save.isPending}>
        Make it
      </Button>
    </form>
  );
}

/** Adds the first client and publishes what was made so far. The secret that was made is handed on, whatever follows. */
export function ClientStep({ hour, show, done }: { hour: Hour; show: (secret?: string) => void; done: () => void }) {
  const drafted = useObjects("clients").data?.items[0];
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const publish = useMutation({
    mutationFn: () => call("POST", "/draft/publish", { note: "the first hour" }),
    onSettled: done,
  });
  const add = useMutation({
    mutationFn: () =>
      call<{ secret?: string; object: { id: string } }>("POST", "/clients", {
        name,
        addresses: lines([address]),
        enabled: true,
        messageAuthenticator: "auto",
        generateSecret: true,
        tags: {},
        tlsNames: [],
        note: "",
      }),
    onSuccess: (made) => {
      show(made.secret); // before anything else can fail: it is told only once
      if (made.secret) keepMade(made.object.id, "RADIUS", made.secret);
      publish.mutate();
    },
  });
  if (drafted) {
    return (
      <>
        <Failure error={publish.error} />
        <Button primary needs="configure" disabled={publish.isPending} onClick={() => publish.mutate()}>
          Publish
        </Button>
      </>
    );
  }
  return (
    <form
      className="max-w-[420px]"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
    >
      <Failure error={add.error ?? publish.error} />
      <TextField
        label="Name of the client"
        field="name"
        mono
        placeholder="switch-1"
        value={name}
        onChange={setName}
        error={add.error}
      />
      <TextField
        label="Its address"
        field="addresses"
        mono
        placeholder="192.0.2.10"
        value={address}
        onChange={setAddress}
        error={add.error}
      />
      {hour.strangers.length > 0 && (
        <div className="mb-3 flex flex-wrap items-center gap-2 text-[13px]">
          These have asked already:
          {hour.strangers.map((s) => (
            <Button key={s} onClick={() => setAddress(s)}>
              {s}
            </Button>
          ))}
        </div>
      )}
      <p className="hint mb-2">
        A secret of full strength is made. Message-Authenticator is required from when the client is first seen with it.
      </p>
      <Button primary type="submit" needs="configure" disabled={add.isPending || publish.isPending}>
        Add it and publish
      </Button>
    </form>
  );
}

/** A second owner, and a copy of the key file. */
export function KeepingStep({ hour, done, keep }: { hour: Hour; done: () => void; keep: () => void }) {
  const operators = useQuery({
    queryKey: ["operators"],
    queryFn: () => call<{ items: Schema["Operator"][] }>("GET", "/operators"),
  });
  const owners = operators.data?.items.filter((o) => o.role === "owner").length ?? 0;
  return (
    <div className="max-w-[560px]">
      {owners < 2 && (
        <div className="mb-4 max-w-[420px]">
          <b>A second owner</b>
          <AddOwner done={done} />
        </div>
      )}
      <p className="mb-2 text-[13px]">
        Copy <code className="break-all">{hour.keyFile}</code> to a safe place, apart from the backups: it opens the
        secrets in them.
      </p>
      <Button primary needs="configure" onClick={keep}>
        {owners > 1 ? "The key file is kept" : "That is enough"}
      </Button>
    </div>
  );
}
