/** In the place of the catalogue on a page: the codes stand alone there, and tenonsaw/texts has the rest. */
export const texts = undefined;
