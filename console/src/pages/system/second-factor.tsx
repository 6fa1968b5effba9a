import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schema } from "../../api/client";
import { useAbout } from "../../api/hooks";
import { Button, Failure, Notice } from "../../ui/basic";
import { TextField } from "../../ui/form";
import { Offer } from "../../ui/picture";

/** Enrols a second factor of one's own: the password once more, the picture, a code of it, the recovery codes. */
export function EnrolOwn({ done }: { done: () => void }) {
  const about = useAbout();
  const [form, setForm] = useState({ password: "", code: "" });
  const [shown, setShown] = useState("");
  const begin = useMutation({
    mutationFn: async () =>
      (await api.POST("/me/factor", { body: { password: form.password, code: form.code || undefined } })).data!,
  });
  const add = useMutation({
    mutationFn: async () => {
      const { addKey } = await import("../../ui/security-key");
      return addKey({ password: form.password, code: form.code || undefined }, "security key");
    },
  });
  const offer = begin.data;
  const confirm = useMutation({
    mutationFn: async () =>
      (
        await api.POST("/me/factor/{id}/confirm", {
          params: { path: { id: offer!.factor.id } },
          body: { code: shown },
        })
      ).data!,
  });
  if (confirm.data) return <RecoveryCodes codes={confirm.data} done={done} />;
  if (offer) {
    return (
      <form
        className="flex gap-6"
        onSubmit={(e) => {
          e.preventDefault();
          confirm.mutate();
        }}
      >
        <Offer offer={offer} lead="Take this picture with an authenticator, or type the seed:">
          <TextField
            label="Code shown now"
            field="code"
            mono
            autoFocus
            autoComplete="one-time-code"
            inputMode="numeric"
            value={shown}
            onChange={setShown}
            error={confirm.error}
          />
          <Failure error={confirm.error} />
          <Button primary type="submit" className="mt-2" disabled={!shown || confirm.isPending}>
            Confirm
          </Button>
        </Offer>
      </form>
    );
  }
  if (add.data) return <RecoveryCodes codes={add.data} done={done} />;
  return (
    <form
      className="max-w-[380px]"
      onSubmit={(e) => {
        e.preventDefault();
        begin.mutate();
      }}
    >
      <Failure error={begin.error ?? add.error} />
      {!about.data?.byProvider && (
        <TextField
          label="Your password, once more"
          field="present"
          type="password"
          autoComplete="current-password"
          value={form.password}
          onChange={(password) => setForm({ ...form, password })}
          required
        />
      )}
      {about.data?.secondFactor && (
        <TextField
          label="Code of the present second factor"
          field="code"
          mono
          autoComplete="one-time-code"
          value={form.code}
          onChange={(code) => setForm({ ...form, code })}
          required
        />
      )}
      <div className="flex gap-2">
        <Button primary type="submit" disabled={begin.isPending}>
          Show the picture
        </Button>
        <Button disabled={add.isPending} onClick={() => add.mutate()}>
          Register a security key
        </Button>
      </div>
    </form>
  );
}

/** The recovery codes, which are shown once. */
export function RecoveryCodes({ codes, done }: { codes: Schema["FactorRecovery"]; done: () => void }) {
  const queries = useQueryClient();
  return (
    <>
      <Notice tone="in">
        <b>It counts from now on.</b>{" "}
        {codes.codes.length > 0
          ? "These recovery codes are shown only here; each is good once, in place of a code. Keep them where your device is not."
          : "The recovery codes that you have stay good."}
      </Notice>
      <ul className="mono my-3 grid w-72 grid-cols-2 gap-x-8 gap-y-1 text-[14px]" data-secret>
        {codes.codes.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <Button
        primary
        onClick={() => {
          queries.invalidateQueries();
          done();
        }}
      >
        {codes.codes.length > 0 ? "I have kept them" : "Done"}
      </Button>
    </>
  );
}
