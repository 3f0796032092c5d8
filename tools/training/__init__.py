"""How the network that reads relief from light is trained: made-up surfaces, photographs of them, the network, its figures."""
