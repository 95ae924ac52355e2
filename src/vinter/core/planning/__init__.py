"""Planning a picture: settings for a minute, kinds of pictures, the view over the horizon, where to stand."""
