export * from "three";
