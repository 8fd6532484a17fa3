"""Running the studio: room and quotas, the bin, people, and the ways back."""
