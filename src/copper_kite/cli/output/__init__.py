"""What commands print: values, tables, JSON, verdicts, dialogues."""
