"""Where bytes come from and commands go to; discovery; what is wrong with a port."""
