// Where directions lie in the view from the stand: pure functions of a view {width, height, centre, span}, in px and degrees.

export const LOW = -8; // altitude at the lower edge

// An angle brought to -180 to 180.
export function turn(angle) {
  return ((((angle + 180) % 360) + 360) % 360) - 180;
}

export function pixelsPerDegree(view) {
  return view.width / view.span;
}

// The altitude at the upper edge.
export function highest(view) {
  return Math.min(90, LOW + view.height / pixelsPerDegree(view));
}

export function xOf(azimuth, view) {
  return view.width / 2 + turn(azimuth - view.centre) * pixelsPerDegree(view);
}

export function yOf(altitude, view) {
  return view.height - (altitude - LOW) * pixelsPerDegree(view);
}

// The horizon profile laid out three times round, with an end on either side; flat where none is drawn.
export function groundLine(profile) {
  const points = profile.length ? profile : [
    [0, 0]
  ];
  const first = points[0],
    last = points[points.length - 1],
    out = [
      [last[0] - 720, last[1]]
    ];
  for (const lap of [-360, 0, 360])
    for (const [azimuth, altitude] of points) out.push([azimuth + lap, altitude]);
  return [...out, [first[0] + 720, first[1]]];
}
