"""A simulated internet: links, hosts and applications, drawn from seeds, that probes measure as they would a real one.

One set of link models serves both ways of using it: `net.SimulatedNet` answers the probes' exchanges one by one, and
`lab.bulk` asks for thousands of exchanges at once to make up history.
"""
