using System.Buffers.Binary;

namespace Vestige.Core.Treatments;

/// <summary>Makes up what replaces a value, from the 32 bytes of its keyed hash.</summary>
public static class Pseudonyms
{
    private const string Alphabet = "0123456789abcdefghjkmnpqrstvwxyz";

    private static readonly string[] Given =
    [
        "Ada",
        "Alva",
        "Anouk",
        "Arno",
        "Asta",
        "Bela",
        "Birk",
        "Carla",
        "Cleo",
        "Dario",
        "Demi",
        "Edda",
        "Elio",
        "Enna",
        "Fabio",
        "Fenja",
        "Gero",
        "Gitta",
        "Hanno",
        "Hedda",
        "Ida",
        "Ilja",
        "Jana",
        "Joris",
        "Kaja",
        "Kilian",
        "Lasse",
        "Lena",
        "Lino",
        "Mara",
        "Mika",
        "Nele",
        "Nilo",
        "Oda",
        "Olin",
        "Paula",
        "Piet",
        "Quirin",
        "Ragna",
        "Remo",
        "Romy",
        "Ruben",
        "Selma",
        "Silas",
        "Smilla",
        "Sven",
        "Tabea",
        "Tamo",
        "Thea",
        "Tilda",
        "Ulla",
        "Urs",
        "Vera",
        "Vito",
        "Wanda",
        "Wim",
        "Xenia",
        "Yara",
        "Yannis",
        "Zita",
        "Zeno",
        "Malou",
        "Jorun",
        "Levi",
    ];

    private static readonly string[] Family =
    [
        "Abel",
        "Adler",
        "Bach",
        "Birke",
        "Brandt",
        "Busch",
        "Dahl",
        "Dorn",
        "Eben",
        "Eich",
        "Falk",
        "Feld",
        "Fink",
        "Forst",
        "Gast",
        "Glas",
        "Grau",
        "Hagen",
        "Hain",
        "Heide",
        "Held",
        "Herbst",
        "Hirsch",
        "Holm",
        "Horn",
        "Igel",
        "Jung",
        "Kamm",
        "Kern",
        "Kiel",
        "Klee",
        "Kranz",
        "Lamm",
        "Lerch",
        "Lind",
        "Lohr",
        "Luchs",
        "Marsch",
        "Mohn",
        "Moor",
        "Nagel",
        "Nord",
        "Ober",
        "Ott",
        "Pfau",
        "Quell",
        "Rabe",
        "Rain",
        "Reif",
        "Roth",
        "Sand",
        "Schilf",
        "Specht",
        "Stein",
        "Storch",
        "Tann",
        "Teich",
        "Ufer",
        "Voss",
        "Wald",
        "Weide",
        "Wiese",
        "Wolf",
        "Zander",
    ];

    /// <summary>The first 80 bits in the letters and digits that are not mistaken for each other.</summary>
    public static string Code(ReadOnlySpan<byte> hash)
    {
        Span<char> code = stackalloc char[16];
        for (var i = 0; i < code.Length; i++)
        {
            var bit = i * 5;
            var pair = BinaryPrimitives.ReadUInt16BigEndian(hash[(bit / 8)..]);
            code[i] = Alphabet[(pair >> (11 - (bit % 8))) & 31];
        }

        return new string(code);
    }

    public static string Name(ReadOnlySpan<byte> hash) => $"{Given[hash[0] % Given.Length]} {Family[hash[1] % Family.Length]}";

    public static string Email(ReadOnlySpan<byte> hash) => $"{Code(hash)}@example.invalid";

    /// <summary>From 0 to 10^18 − 1.</summary>
    public static long Number(ReadOnlySpan<byte> hash) => (long)(BinaryPrimitives.ReadUInt64BigEndian(hash) % 1_000_000_000_000_000_000UL);
}
