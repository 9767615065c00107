"""What a curator does: one module for each thing, in the groups of ``rellum --help``.

In: what the command line asked for, and callables for progress and questions. Out: a frozen result to show.
An action wires the other packages together; nothing imports it but the interface.
"""
