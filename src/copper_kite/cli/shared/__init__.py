"""What several commands share: options, the server under test, selecting recipients, editing the configuration."""
