/** When shows a moment in the reader's own time, with the full one on hover. */
export function When({ at }: { at: string }) {
  const moment = new Date(at);
  const today = moment.toDateString() === new Date().toDateString();
  return (
    <time dateTime={at} title={moment.toString()} className="whitespace-nowrap">
      {today
        ? `today ${moment.toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" })}`
        : moment.toLocaleString(undefined, {
            day: "numeric",
            month: "short",
            year: "numeric",
            hour: "2-digit",
            minute: "2-digit",
            hourCycle: "h23",
          })}
    </time>
  );
}
