"""Worked examples of J. P. Snyder, Map Projections: A Working Manual, USGS Professional Paper 1395 (1987).

Appendix A, numerical examples, sphere of radius 1; page numbers from memory.
Longitudes are given west there, so x grows to the east.
"""

#: Mercator, p. 266: latitude 35 N, longitude 75 W, central meridian 180 W.
MERCATOR = {"lat_deg": 35.0, "lon_deg": 105.0, "x": 1.8325957, "y": 0.6528366}

#: Gnomonic, p. 319: centre 40 N 100 W; 30 N 110 W.
GNOMONIC = {"centre_lat_deg": 40.0, "lat_deg": 30.0, "lon_deg": -10.0, "x": -0.1542826, "y": -0.1694739}

#: Stereographic, p. 312: centre 40 N 100 W; 30 N 75 W, scale 1 at the centre.
STEREOGRAPHIC = {"centre_lat_deg": 40.0, "lat_deg": 30.0, "lon_deg": 25.0, "x": 0.3807224, "y": -0.1263802}
