"""The Conclude step: criteria, findings, the report, and what is exported."""
