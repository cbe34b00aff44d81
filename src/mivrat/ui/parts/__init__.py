"""What several views are made of: widgets, tables, pictures, diagrams, and the main thread's loop."""
