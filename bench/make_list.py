"""A known list of N entries: sets of one to six tracks, some of them shared, as lists of discs are."""
import random
import sys


def main(path, count):
    random.seed(500000)
    words = ["Moth", "Lantern", "Kestrel", "Circuit", "Tidewater", "Courier", "Brass", "Orchard", "Quarry", "Lights"]
    shared = [("%040x" % random.getrandbits(160), "%032x" % random.getrandbits(128), random.getrandbits(32)) for _ in range(50)]
    with open(path, "w", encoding="utf-8") as out:
        out.write('<?xml version="1.0" encoding="UTF-8"?>\n<datafile>\n\t<header>\n\t\t<name>Bench</name>\n'
                  "\t\t<description>Bench</description>\n\t\t<version>1</version>\n\t</header>\n")
        made = number = 0
        while made < count:
            number += 1
            name = "%s &amp; %s %d (Europe)" % (random.choice(words), random.choice(words), number)
            out.write('\t<game name="%s">\n\t\t<description>%s</description>\n' % (name, name))
            tracks = min(random.choice([1, 1, 1, 2, 3, 6]), count - made)
            for track in range(tracks):
                hashes = random.choice(shared) if track and random.random() < 0.1 else (
                    "%040x" % random.getrandbits(160), "%032x" % random.getrandbits(128), random.getrandbits(32))
                out.write('\t\t<rom name="%s (Track %d).bin" size="%d" crc="%08x" md5="%s" sha1="%s"/>\n' % (
                    name, track + 1, random.randrange(1, 300000) * 2352, hashes[2], hashes[1], hashes[0]))
            made += tracks
            out.write("\t</game>\n")
        out.write("</datafile>\n")


main(sys.argv[1], int(sys.argv[2]))
