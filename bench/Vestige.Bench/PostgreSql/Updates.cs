using Vestige.Connectors.PostgreSql.Tests.Servers;

namespace Vestige.Bench.PostgreSql;

/// <summary>A table, and updates of its rows in transactions of a given size.</summary>
internal static class Updates
{
    private const int Rows = 500_000;

    public static async Task FillAsync(Database database)
    {
        await database.RunAsync(
            "CREATE TABLE item (id int PRIMARY KEY, amount int NOT NULL, note text); "
                + $"INSERT INTO item SELECT i, 0, 'note of the row ' || i FROM generate_series(1, {Rows}) i"
        );
        await database.RunAsync("VACUUM ANALYZE item");
    }

    /// <summary>Spread over all rows, or over one in a hundred.</summary>
    public static Task MakeAsync(Database database, int changes, int perTransaction, bool hot)
    {
        var range = hot ? Rows / 100 : Rows;
        return database.RunAsync(
            $"""
            SET synchronous_commit = off;
            CREATE PROCEDURE make() LANGUAGE plpgsql AS $$ BEGIN
              FOR i IN 1 .. {changes / perTransaction} LOOP
                {(perTransaction > 100 ? Many(perTransaction, range) : Few(perTransaction, range))}
                COMMIT;
              END LOOP;
            END $$;
            CALL make()
            """
        );
    }

    private static string Many(int rows, int range) =>
        "UPDATE item SET amount = amount + 1 WHERE id IN "
        + $"(SELECT 1 + ((i::int8 * 7919 + j) % {range})::int FROM generate_series(1, {rows}) j);";

    private static string Few(int rows, int range) =>
        string.Concat(
            Enumerable
                .Range(0, rows)
                .Select(j =>
                    $"UPDATE item SET amount = amount + 1 WHERE id = 1 + ((i::int8 * {7919 + (j * 104_729)} + {j}) % {range})::int;"
                )
        );
}
