/* SPDX-License-Identifier: MIT */
#include "harmonic.h"

#include <math.h>

#define RADIANS(degrees) ((degrees) * 3.14159265358979323846 / 180.0)

double harmonic_height(double mean, const struct harmonic_constituent *c, size_t n, double hours)
{
	double height = mean;
	for (size_t i = 0; i < n; i++)
		height += c[i].amplitude * cos(RADIANS(c[i].speed * hours - c[i].phase));
	return height;
}

double harmonic_next_high(double mean, const struct harmonic_constituent *c, size_t n, double hours)
{
	const double minute = 1.0 / 60.0;
	double before = harmonic_height(mean, c, n, hours);
	double now = harmonic_height(mean, c, n, hours + minute);
	for (double t = hours + 2 * minute; t < hours + 26; t += minute) {
		double after = harmonic_height(mean, c, n, t);
		if (now >= before && now > after)
			return t - minute;
		before = now;
		now = after;
	}
	return -1;
}

const char *harmonic_version(void) { return HARMONIC_VERSION; }
