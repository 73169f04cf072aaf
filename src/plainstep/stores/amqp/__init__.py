"""Stream queues of RabbitMQ."""
