"""When, where and which way particles are born."""
