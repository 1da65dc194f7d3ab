"""What audio files carry beside their sound: where it stands in time, names, marks; read, and written again."""
