using Vestige.Connectors.StandIn;

namespace Vestige.Demo.Circulation;

/// <summary>Fills an empty stand-in with the county's libraries as of one day: the same rows for the same seed and size.</summary>
public sealed class CirculationSeed(int seed, int loans, DateTimeOffset today)
{
    private const int RowsPerTransaction = 5000;
    private readonly Random random = new(seed);
    private int Patrons => Math.Max(20, loans / 10);

    private int Titles => Math.Max(20, loans / 14);

    private int Copies => Math.Max(40, loans / 5);

    /// <summary>Creates the tables and fills them.</summary>
    public async Task RunAsync(StandInDatabase database, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(database);
        using (var transaction = await database.BeginAsync(cancellation: cancellation))
        {
            foreach (var statement in CirculationSchema.Statements)
            {
                transaction.Run(statement);
            }

            transaction.Commit();
        }

        foreach (var (statement, rows) in Tables())
        {
            foreach (var group in rows.Chunk(RowsPerTransaction))
            {
                using var transaction = await database.BeginAsync(cancellation: cancellation);
                foreach (var row in group)
                {
                    transaction.Run(statement, row);
                }

                transaction.Commit();
            }
        }
    }

    private IEnumerable<(string Statement, IEnumerable<object?[]> Rows)> Tables()
    {
        var invent = new Inventions(random);
        var towns = Enumerable.Range(0, 12).Select(_ => invent.Place()).ToList();
        yield return (
            "INSERT INTO branch VALUES (?, ?, ?, ?)",
            Enumerable.Range(1, 24).Select(id => new object?[] { id, $"B{id:D2}", $"{invent.Place()} Library", towns[id % towns.Count] })
        );
        yield return (
            "INSERT INTO patron_category VALUES (?, ?, ?, ?)",
            new object?[][]
            {
                ["adult", "Adult", 28, "0.20"],
                ["child", "Child", 28, "0.00"],
                ["student", "Student", 42, "0.10"],
                ["staff", "Staff", 90, "0.00"],
            }
        );
        var categories = new[] { "adult", "adult", "adult", "child", "student", "staff" };
        yield return (
            "INSERT INTO patron VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            Enumerable.Range(1, Patrons).Select(id => Patron(invent, towns, categories, id))
        );
        yield return (
            "INSERT INTO title VALUES (?, ?, ?, ?, ?)",
            Enumerable
                .Range(1, Titles)
                .Select(id => new object?[] { id, invent.Title(), invent.Person(), random.Next(1921, 2027), invent.Subject() })
        );
        yield return (
            "INSERT INTO copy VALUES (?, ?, ?, ?, ?, ?)",
            Enumerable
                .Range(1, Copies)
                .Select(id =>
                    new object?[]
                    {
                        id,
                        $"C{id:D8}",
                        1 + random.Next(Titles),
                        1 + random.Next(24),
                        "on shelf",
                        $"{random.Next(4, 60)}.{random.Next(100):D2}",
                    }
                )
        );
        yield return ("INSERT INTO loan VALUES (?, ?, ?, ?, ?, ?, ?)", Enumerable.Range(1, loans).Select(Loan));
        yield return (
            "INSERT INTO hold VALUES (?, ?, ?, ?, ?)",
            Enumerable
                .Range(1, loans / 16)
                .Select(id =>
                    new object?[]
                    {
                        id,
                        1 + random.Next(Titles),
                        1 + random.Next(Patrons),
                        Day(random.Next(1, 60)),
                        invent.Pick(["waiting", "waiting", "ready"]),
                    }
                )
        );
        var fines = loans / 11;
        yield return (
            "INSERT INTO fine VALUES (?, ?, ?, ?, ?)",
            Enumerable
                .Range(1, fines)
                .Select(id =>
                    new object?[]
                    {
                        id,
                        1 + random.Next(loans),
                        $"{random.Next(0, 9)}.{random.Next(100):D2}",
                        Day(random.Next(1, 400)),
                        id % 3 == 0 ? 0 : 1,
                    }
                )
        );
        yield return (
            "INSERT INTO payment VALUES (?, ?, ?, ?)",
            Enumerable
                .Range(1, fines)
                .Where(id => id % 3 != 0)
                .Select(id => new object?[] { id, 1, $"{random.Next(0, 9)}.{random.Next(100):D2}", Day(random.Next(1, 300)) })
        );
        yield return (
            "INSERT INTO opening_note VALUES (?, ?, ?)",
            Enumerable
                .Range(0, 96)
                .Select(i =>
                    new object?[] { 1 + (i % 24), today.AddDays(-7 * (i / 24)).ToString("yyyy-MM-dd"), i % 5 == 0 ? "closes early" : null }
                )
        );
    }

    private object?[] Patron(Inventions invent, List<string> towns, string[] categories, int id)
    {
        var name = invent.Person();
        var town = invent.Pick(towns);
        var email = random.Next(6) == 0 ? null : $"{name.ToLowerInvariant().Replace(' ', '.')}.{id}@example.org";
        return
        [
            id,
            $"P{id:D7}",
            name,
            email,
            invent.Address(town),
            invent.Pick(categories),
            1 + random.Next(24),
            Day(random.Next(10, 4000)),
            0,
        ];
    }

    private object?[] Loan(int id)
    {
        var age = random.Next(30, 900);
        var lent = today.AddDays(-age).AddMinutes(random.Next(600));
        return
        [
            id,
            1 + random.Next(Copies),
            1 + random.Next(Patrons),
            Moment(lent),
            lent.AddDays(28).ToString("yyyy-MM-dd"),
            Moment(lent.AddDays(random.Next(1, 29))),
            random.Next(8) == 0 ? 1 : 0,
        ];
    }

    private string Day(int ago) => today.AddDays(-ago).ToString("yyyy-MM-dd");

    private static string Moment(DateTimeOffset at) => at.ToString("yyyy-MM-dd HH:mm:ss");
}
