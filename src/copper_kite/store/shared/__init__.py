"""What engines have in common: values as rows, group commit, the process that writes, counts, and what people see."""
