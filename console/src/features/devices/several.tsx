// Deciding on several devices at once, by a preset.
import { useState } from "react";
import type { Device } from "../../api/client";
import { useDecide, usePresets } from "../../api/queries";
import { Button, Trouble } from "../../components/basics";
import { count } from "../../lib/words";

export function Several({ devices, onDone }: { devices: Device[]; onDone: () => void }) {
  const presets = usePresets();
  const decide = useDecide();
  const [preset, setPreset] = useState("everything");
  const [done, setDone] = useState(0);
  const run = async (decision: { standing: string; preset?: string }) => {
    setDone(0);
    try {
      // One after the other: what fails is told, and what was decided before stays decided.
      for (const [n, device] of devices.entries()) {
        await decide.mutateAsync({ device, ...decision });
        setDone(n + 1);
      }
      onDone();
    } catch {
      // Shown below.
    }
  };
  const none = devices.length === 0 || decide.isPending;
  return (
    <div className="mb-4 rounded-lg bg-accent-wash p-3">
      <p role="status" className="mb-2">
        {devices.length === 0 ? "Tick the devices to decide on." : `${count(devices.length, "device")} ticked.`}
      </p>
      <div className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          <span>Preset</span>
          <select
            className="min-h-11 rounded-lg border border-line bg-paper px-3"
            value={preset}
            onChange={(event) => setPreset(event.target.value)}
          >
            {presets.data?.map(({ name }) => (
              <option key={name} value={name}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <Button look="main" disabled={none} onClick={() => void run({ standing: "admitted", preset })}>
          Admit them
        </Button>
        <Button look="danger" disabled={none} onClick={() => void run({ standing: "refused" })}>
          Refuse them
        </Button>
        <Button onClick={onDone}>Leave it</Button>
      </div>
      {decide.error && done > 0 && <p className="mt-2">{count(done, "device")} decided before this:</p>}
      <Trouble problem={decide.error} />
    </div>
  );
}
