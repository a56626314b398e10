"""The common parts of engines: values as rows, group commit, the process that writes, counts, and what people see."""
