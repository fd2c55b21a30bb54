using System.Text.Json;
using Vestige.Connectors.StandIn.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>The schemas by which rows are logged follow the catalogue after each statement, also through rollbacks.</summary>
public sealed class KnownFormTests : IDisposable
{
    private const int Statements = 300;
    private readonly TemporaryFolder folder = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose() => folder.Dispose();

    [Fact]
    public async Task They_are_what_the_whole_catalogue_says_after_every_statement()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}");
        var (random, taken, refused) = (new Random(seed), 0, 0);
        await using var database = StandInDatabase.Open(folder.File("db.db"), "db", new StandInOptions(), TimeProvider.System);
        while (taken < Statements)
        {
            var before = refused;
            using var transaction = await database.BeginAsync(cancellation: cancellation);
            for (var i = random.Next(1, 8); i > 0; i--)
            {
                var statement = Next(random, [.. TableCatalogue.Read(database.Handle, "db")], ++taken);
                if (!Runs(transaction, statement))
                {
                    refused++;
                    break;
                }

                AssertKnown(database, $"after {statement}; seed {seed}");
            }

            if (refused == before && random.Next(3) > 0)
            {
                transaction.Commit();
            }
        }

        using var last = await database.BeginAsync(cancellation: cancellation);
        AssertKnown(database, $"at the end; seed {seed}");
        Assert.True(refused < Statements / 3, $"{refused} of {Statements} statements were refused; seed {seed}");
    }

    /// <summary>False where the database refuses it, as dropping a table to which rows refer.</summary>
    private static bool Runs(StandInTransaction transaction, string statement)
    {
        try
        {
            transaction.Run(statement);
            return true;
        }
        catch (PortException)
        {
            return false;
        }
    }

    private static string Next(Random random, List<TableSchema> there, int number)
    {
        if (there.Count < 3)
        {
            return $"CREATE TABLE t{number} (a INTEGER PRIMARY KEY, b TEXT)";
        }

        var (one, other) = (there[random.Next(there.Count)], there[random.Next(there.Count)]);
        var (name, column) = (one.Name.Name, one.Columns[^1].Name);
        return random.Next(8) switch
        {
            // The parent's key is not named: what the child refers to changes with the parent.
            0 => $"CREATE TABLE T{number} (a INTEGER PRIMARY KEY, b TEXT, p REFERENCES {other.Name.Name.ToUpperInvariant()})",
            1 => $"ALTER TABLE {name} ADD COLUMN c{number} TEXT DEFAULT 'x'",
            2 => $"ALTER TABLE {name} RENAME COLUMN a TO a{number}; ALTER TABLE {name} RENAME COLUMN a{number} TO a",
            3 when column.StartsWith('c') => $"ALTER TABLE {name} DROP COLUMN {column}",
            4 => $"ALTER TABLE {name} RENAME TO r{number}",
            5 => $"CREATE UNIQUE INDEX u{number} ON {name} ({column})",
            6 when there.Count > 6 => $"DROP TABLE {name}",
            _ => $"INSERT INTO {name} (b) VALUES ('row {number}')",
        };
    }

    private static void AssertKnown(StandInDatabase database, string when)
    {
        var known = Enumerable.Range(1, 4 * Statements).Select(database.RelationOf).OfType<TableSchema>().ToList();
        Assert.All(known, table => Assert.Equal(table.Columns.Count, table.Columns.Select(column => column.Id).Distinct().Count()));
        Assert.True(
            Texts(TableCatalogue.Read(database.Handle, "db")).SequenceEqual(Texts(known)),
            $"{when}\n{string.Join('\n', Texts(known))}\nis not\n{string.Join('\n', Texts(TableCatalogue.Read(database.Handle, "db")))}"
        );
    }

    /// <summary>Without the numbers of columns, which SQLite does not have.</summary>
    private static IEnumerable<string> Texts(IEnumerable<TableSchema> tables) =>
        tables
            .OrderBy(table => table.Name)
            .Select(table => table with { Columns = [.. table.Columns.Select(column => column with { Id = null })] })
            .Select(table => JsonSerializer.Serialize(table));
}
