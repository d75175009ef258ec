// The interval of contours: chosen, or what the server finds right for the zoom and the relief.
import { state } from "../state.js";

/** As the server is asked for it: metres, or "auto". @returns {number | "auto"} */
export const contour = () => state.show.contour_m;
