"""From a recipient to the connector that carries it, with the reasons."""
