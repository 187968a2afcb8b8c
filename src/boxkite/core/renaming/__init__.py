"""Names on disk: sources renamed by rule, with what lies beside them, and back again."""
