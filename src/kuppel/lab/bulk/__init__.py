"""The probes of a made-up past, thousands of runs at once: what `probes` computes of one run, in columns."""
