"""What the simulated stand-ins do less than real ones; told where it is seen, without loading the island."""

#: A frame is rendered with at most so many megapixels, so that a shot takes about a second.
MOST_MEGAPIXELS = 2.4
#: On request frames have the sensor's own size; a megapixel then takes about so long on two cores.
SECONDS_A_MEGAPIXEL = 0.9
