// Adding a device before or without its asking.
import { useState } from "react";
import { api, type NewDevice } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button, Field, Trouble } from "../../components/basics";
import { Dialog } from "../../components/dialog";

export function AddDevice() {
  const [open, setOpen] = useState(false);
  const [which, setWhich] = useState("");
  const [name, setName] = useState("");
  const add = useChange((body: NewDevice) => api.POST("/api/v1/devices", { body }), ["devices", "house"]);
  const close = () => {
    setOpen(false);
    add.reset();
  };
  return (
    <>
      <Button onClick={() => setOpen(true)}>Add a device…</Button>
      <Dialog open={open} title="Add a device" onClose={close}>
        <form
          className="mt-3 space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            const isAddress = /^[0-9.]+$/.test(which.trim());
            const place = isAddress ? { address: which.trim() } : { hardware: which.trim() };
            add.mutate(
              { ...place, ...(name.trim() && { name: name.trim() }) },
              {
                onSuccess: () => {
                  setWhich("");
                  setName("");
                  close();
                },
              },
            );
          }}
        >
          <p>It need not be switched on. It waits for your decision, and asks for nothing until it is met.</p>
          <Field
            label="Hardware address or address"
            hint="The hardware address stays the same; the network can give another address tomorrow."
            placeholder="02:5e:11:00:00:2c"
            value={which}
            required
            onChange={(event) => setWhich(event.target.value)}
          />
          <Field label="Name" value={name} maxLength={63} onChange={(event) => setName(event.target.value)} />
          <Trouble problem={add.error} />
          <div className="flex gap-3">
            <Button look="main" type="submit" disabled={which.trim() === "" || add.isPending}>
              Add it
            </Button>
            <Button onClick={close}>Back</Button>
          </div>
        </form>
      </Dialog>
    </>
  );
}
