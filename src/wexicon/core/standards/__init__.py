"""What open standards define, one file a subject: character sets, messages, sentences, timers, the UART's waveform."""
