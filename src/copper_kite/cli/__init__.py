"""The command line: it parses, calls the core, and shows what came of it. Everything below it is silent."""
