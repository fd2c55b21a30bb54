namespace Vestige.Demo.Circulation;

/// <summary>Made-up names, from syllables and word lists and a seeded generator.</summary>
internal sealed class Inventions(Random random)
{
    private static readonly string[] First =
    [
        "Ada",
        "Bram",
        "Cora",
        "Dario",
        "Elke",
        "Finn",
        "Greta",
        "Hugo",
        "Ines",
        "Joris",
        "Kaya",
        "Levi",
        "Mira",
        "Nils",
        "Oona",
        "Piet",
        "Runa",
        "Sven",
        "Tilde",
        "Ulf",
        "Vera",
        "Wout",
        "Yara",
        "Zeno",
    ];
    private static readonly string[] Stem =
    [
        "Alder",
        "Bracken",
        "Copper",
        "Dun",
        "Elder",
        "Fern",
        "Garrow",
        "Hazel",
        "Iver",
        "Juniper",
        "Kestrel",
        "Linden",
        "Marrow",
        "Nether",
        "Oaken",
        "Pell",
        "Quill",
        "Rowan",
        "Sedge",
        "Thorn",
        "Under",
        "Vane",
        "Willow",
        "Yarrow",
    ];
    private static readonly string[] Ending =
    [
        "brook",
        "croft",
        "dale",
        "field",
        "gate",
        "holm",
        "low",
        "mere",
        "ness",
        "ridge",
        "stead",
        "ton",
        "wick",
        "worth",
    ];
    private static readonly string[] Adjective =
    [
        "Quiet",
        "Salted",
        "Borrowed",
        "Northern",
        "Paper",
        "Hollow",
        "Amber",
        "Unfinished",
        "Second",
        "Winter",
        "Crooked",
        "Patient",
        "Drifting",
        "Glass",
        "Small",
    ];
    private static readonly string[] Noun =
    [
        "Harbour",
        "Ledger",
        "Orchard",
        "Almanac",
        "Lighthouse",
        "Machines",
        "Rivers",
        "Cartographer",
        "Bees",
        "Staircase",
        "Weather",
        "Letters",
        "Kitchen",
        "Observatory",
        "Ferry",
    ];
    private static readonly string[] Subjects =
    [
        "fiction",
        "history",
        "travel",
        "gardening",
        "astronomy",
        "cooking",
        "children",
        "engineering",
        "music",
        "local studies",
    ];

    public string Place() => Pick(Stem) + Pick(Ending);

    public string Person() => $"{Pick(First)} {Pick(Stem)}{Pick(Ending)}";

    public string Address(string town) => $"{random.Next(1, 180)} {Pick(Stem)} Lane, {town}";

    public string Title() =>
        random.Next(3) switch
        {
            0 => $"The {Pick(Adjective)} {Pick(Noun)}",
            1 => $"{Pick(Noun)} of {Place()}",
            _ => $"A {Pick(Adjective)} {Pick(Noun)}, volume {random.Next(1, 9)}",
        };

    public string Subject() => Pick(Subjects);

    public T Pick<T>(IReadOnlyList<T> from) => from[random.Next(from.Count)];
}
