const whole = new Intl.NumberFormat("en");

/** 90000 as 90,000. */
export function count(value: number): string {
  return whole.format(value);
}

/** A share as a percentage with as many places as it needs to say something. */
export function percent(share: number): string {
  const value = share * 100;
  if (value === 0) return "0 %";
  // nearly all is not all
  if (value > 99 && value < 100) return value < 99.95 ? `${value.toFixed(1)} %` : "over 99.9 %";
  return `${value.toFixed(value >= 10 ? 0 : value >= 1 ? 1 : 3)} %`;
}

/** A metric's figure. */
export function figure(value: number): string {
  return value.toFixed(4);
}

/** A moment in local time, to the minute. */
export function moment(iso: string): string {
  const at = new Date(iso);
  const pad = (value: number) => String(value).padStart(2, "0");
  return `${at.getFullYear()}-${pad(at.getMonth() + 1)}-${pad(at.getDate())} ${pad(at.getHours())}:${pad(at.getMinutes())}`;
}

/** The same to the second. */
export function exactly(iso: string): string {
  return `${moment(iso)}:${String(new Date(iso).getSeconds()).padStart(2, "0")}`;
}

/** Seconds as people say them. */
export function duration(seconds: number): string {
  if (seconds < 60) return `${seconds.toFixed(seconds < 10 ? 1 : 0)} s`;
  const minutes = Math.floor(seconds / 60);
  return minutes < 60 ? `${minutes} min ${Math.round(seconds % 60)} s` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** Makes a message of the service a sentence of its own. */
export function sentence(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
}
