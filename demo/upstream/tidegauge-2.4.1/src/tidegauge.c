/* tidegauge: record and serve tide heights from a pressure gauge.
 * SPDX-License-Identifier: MIT */
#include <harmonic.h>

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#define MAX_CONSTITUENTS 16

struct station {
	char name[64];
	double mean;
	struct harmonic_constituent parts[MAX_CONSTITUENTS];
	size_t n;
};

/* Reads lines such as "name = Saltmarsh Quay", "mean = 2.1" and
 * "constituent = 1.5 28.984104 112" (amplitude, speed, phase). */
static int read_settings(const char *path, struct station *s)
{
	char line[256];
	FILE *f = fopen(path, "r");
	if (!f) {
		perror(path);
		return -1;
	}
	while (fgets(line, sizeof line, f)) {
		struct harmonic_constituent c;
		double mean;
		char name[64];
		if (sscanf(line, "name = %63[^\n]", name) == 1)
			memcpy(s->name, name, sizeof s->name);
		else if (sscanf(line, "mean = %lf", &mean) == 1)
			s->mean = mean;
		else if (sscanf(line, "constituent = %lf %lf %lf", &c.amplitude, &c.speed, &c.phase) == 3 && s->n < MAX_CONSTITUENTS)
			s->parts[s->n++] = c;
	}
	fclose(f);
	return 0;
}

int main(int argc, char **argv)
{
	const char *settings = "/etc/tidegauge/tidegauge.conf";
	struct station s = {.name = "unnamed"};
	double hours = (double)time(NULL) / 3600.0;

	for (int i = 1; i < argc; i++) {
		if (!strcmp(argv[i], "--version")) {
			printf("tidegauge %s (libharmonic %s)\n", TIDEGAUGE_VERSION, harmonic_version());
			return 0;
		} else if (!strcmp(argv[i], "--settings") && i + 1 < argc) {
			settings = argv[++i];
		} else if (!strcmp(argv[i], "--hours") && i + 1 < argc) {
			hours = atof(argv[++i]);
		} else {
			fprintf(stderr, "usage: tidegauge [--version] [--settings FILE] [--hours N]\n");
			return 2;
		}
	}
	if (read_settings(settings, &s) < 0)
		return 1;
	double height = harmonic_height(s.mean, s.parts, s.n, hours);
#ifdef FEET
	printf("%s: %.1f ft\n", s.name, height / 0.3048);
#else
	printf("%s: %.2f m\n", s.name, height);
#endif
	return 0;
}
