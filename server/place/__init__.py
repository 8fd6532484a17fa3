"""Running the place: room and quotas, the bin, people, and the ways back."""
