"""Storage services, which hand out volumes over HTTP: docs/service.json has their calls.

`words` is what they tell, `calls` how one is asked again until it answers, `client` what can be had of it, `volume` a
volume's bytes as a block device. It shares no code with the stand-in (`narvet.standin`), so that each judges the other.
"""
