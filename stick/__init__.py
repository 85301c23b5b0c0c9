"""How the stick's image is built: packages, what is laid over them, the boot menu, and the steps."""
