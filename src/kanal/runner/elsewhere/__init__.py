"""Steps that run elsewhere: in the processes of an executor, or on the machines of a cluster."""
