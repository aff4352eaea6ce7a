/** The page about one item of a version. */
export const itemPage = (version: string) => (item: string) => `/data/${version}?view=item&item=${encodeURIComponent(item)}`;

/** The page about one user of a version. */
export const userPage = (version: string) => (user: string) => `/data/${version}?view=user&user=${encodeURIComponent(user)}`;
