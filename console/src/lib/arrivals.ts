// Notifications of this browser that a device waits.
import { useEffect, useRef } from "react";
import type { Device } from "../api/client";

/** More that come at once are told of together. */
const MOST = 3;
const KEY = "mostra-notifies";

/** Whether this browser is to tell of devices that wait. */
export const notifies = () =>
  localStorage.getItem(KEY) === "yes" && "Notification" in window && Notification.permission === "granted";

export const setNotifies = (on: boolean) => localStorage.setItem(KEY, on ? "yes" : "no");

/** Those of the devices that wait and did not before; of the first list none is new. */
export function newlyWaiting(before: Set<number> | null, devices: Device[]): Device[] {
  return before ? devices.filter((device) => device.standing === "waiting" && !before.has(device.id)) : [];
}

/** Tells of each device that comes to wait while the console is open. */
export function useArrivals(devices: Device[] | undefined) {
  const known = useRef<Set<number> | null>(null);
  useEffect(() => {
    if (!devices) return;
    const arrived = newlyWaiting(known.current, devices);
    known.current = new Set(devices.filter((device) => device.standing === "waiting").map((device) => device.id));
    if (!notifies()) return;
    if (arrived.length > MOST) {
      new Notification(`${arrived.length} devices wait`);
      return;
    }
    for (const device of arrived) {
      const notification = new Notification(`${device.label} waits`, {
        body: "It asked the house for the first time.",
      });
      notification.onclick = () => {
        window.focus();
        window.location.assign(`/devices/${device.id}`);
      };
    }
  }, [devices]);
}
