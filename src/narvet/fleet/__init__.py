"""Work spread over processes of this machine, or over other hosts: the same calls, through the same code.

`engine` is what the work is given to, `wire` what may go to another process or host, `processes` and `network` the two
engines that spread it, `hub` and `host` what runs on the other side. What is done there are functions marked
`runs_elsewhere`, and nothing else.
"""
