"""The ground under the sky: coast, towns' glow over a region, darker places, drives and stands."""
