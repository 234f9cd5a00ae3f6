"""The survey: what is found on an image or device, whoever made it."""
