import { watchHtmx } from "./say.js";

watchHtmx();
