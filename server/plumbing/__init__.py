"""What all of the server stands on: lines of the log, troubles of the database, addresses."""
