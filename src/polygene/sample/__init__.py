"""The sample data: the made-up marine park of Tolva Sound, drawn by a seeded script."""
