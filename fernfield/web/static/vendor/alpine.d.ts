import Alpine from "alpinejs";
export default Alpine;
