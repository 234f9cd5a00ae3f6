"""Real judges: the machine's own kernel, and a guest under a real hypervisor."""
