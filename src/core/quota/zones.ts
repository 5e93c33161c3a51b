/** True for a name of the IANA time zone database. */
export const isZone = (zone: string): boolean => {
  try {
    return zone !== '' && new Intl.DateTimeFormat('en', { timeZone: zone }).format(0) !== '';
  } catch {
    return false; // a RangeError is how Intl says that it knows no such zone
  }
};
