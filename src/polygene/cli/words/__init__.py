"""What is told to people, made of summaries and of nothing else; one module for each that has much."""
