using Vestige.Connectors.StandIn;
using Vestige.Demo.Circulation;

namespace Vestige.Demo.Catalogue;

/// <summary>Fills an empty stand-in with the county's catalogue of titles: the same rows for the same seed. Nobody works on it.</summary>
public sealed class CatalogueSeed(int seed)
{
    public const string Name = "catalogue";
    private const int Subjects = 24;
    private const int Authors = 300;
    private const int Titles = 1200;

    private static readonly string[] Statements =
    [
        "CREATE TABLE subject (id INTEGER PRIMARY KEY, name TEXT NOT NULL, shelf TEXT NOT NULL)",
        "CREATE TABLE author (id INTEGER PRIMARY KEY, name TEXT NOT NULL, born INTEGER)",
        """
            CREATE TABLE title (
              id INTEGER PRIMARY KEY, name TEXT NOT NULL, author_id INTEGER NOT NULL REFERENCES author (id),
              subject_id INTEGER NOT NULL REFERENCES subject (id), year INTEGER NOT NULL)
            """,
    ];

    /// <summary>Creates the tables and fills them.</summary>
    public async Task RunAsync(StandInDatabase database, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(database);
        var random = new Random(seed);
        var invent = new Inventions(random);
        using var transaction = await database.BeginAsync(cancellation: cancellation);
        foreach (var statement in Statements)
        {
            transaction.Run(statement);
        }

        for (var id = 1; id <= Subjects; id++)
        {
            transaction.Run("INSERT INTO subject VALUES (?, ?, ?)", id, $"{invent.Subject()} {id}", $"S{id:D2}");
        }

        for (var id = 1; id <= Authors; id++)
        {
            transaction.Run("INSERT INTO author VALUES (?, ?, ?)", id, invent.Person(), random.Next(1880, 2001));
        }

        for (var id = 1; id <= Titles; id++)
        {
            transaction.Run(
                "INSERT INTO title VALUES (?, ?, ?, ?, ?)",
                id,
                invent.Title(),
                1 + random.Next(Authors),
                1 + random.Next(Subjects),
                random.Next(1921, 2027)
            );
        }

        transaction.Commit();
    }
}
