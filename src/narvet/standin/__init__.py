"""A small simulated storage service: hands out volumes over HTTP, as clouds do, with data kept in a folder.

It ships so that a sheet with a service can be tried, and tested against, without one: `words` has what goes over the
wire, `shelf` the volumes, `app` the calls, `trouble` what a network and a service can do wrong. It shares no code with
what speaks with services (`narvet.services`).
"""
