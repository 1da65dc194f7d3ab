"""Spectra for the eye: average spectrum, outline, spectrogram pictures, waveform; arrays in, arrays out."""
