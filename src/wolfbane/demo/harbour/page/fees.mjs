// The fee calculator of the harbour's web page. It must agree with harbour/fees.py.

const NIGHT_PER_METRE = 3;
const WINTER = new Set([11, 12, 1, 2]);

/** The fee in crowns; throws a RangeError for a boat that no berth takes. */
export function fee({ length, nights, month }) {
  if (!(length > 0 && length <= 24)) throw new RangeError(`no berth takes ${length} metres`);
  const whole = length * nights * NIGHT_PER_METRE;
  return WINTER.has(month) ? Math.round(whole / 2) : whole;
}

/** What the page shows, for instance `60 crowns`. */
export function label(crowns) {
  return `${crowns} ${crowns === 1 ? 'crown' : 'crowns'}`;
}

/** Ask for the fee as the page does: after a short wait, so that typing costs nothing. */
export function feeLater(stay, wait = 5) {
  return new Promise((resolve, reject) => {
    setTimeout(() => {
      try {
        resolve(fee(stay));
      } catch (error) {
        reject(error);
      }
    }, wait);
  });
}
