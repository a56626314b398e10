"""The commands, a file each; those with much to do have a second file for the part that is work rather than options."""
