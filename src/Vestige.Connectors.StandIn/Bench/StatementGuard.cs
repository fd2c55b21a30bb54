using SQLitePCL;
using Vestige.Connectors.StandIn.Catalogue;

namespace Vestige.Connectors.StandIn.Bench;

/// <summary>Statements that a person types may do anything but steer transactions, use other files and touch our own tables.</summary>
internal static class StatementGuard
{
    private static readonly HashSet<string?> ReadingPragmas = ["table_info", "table_xinfo", "foreign_key_list", "index_list", "index_info"];

    /// <summary>Answers SQLite's question about one action of a statement (Compile-Time Authorization Callbacks).</summary>
    public static int Judge(int action, string? first, string? second) =>
        action switch
        {
            raw.SQLITE_TRANSACTION or raw.SQLITE_SAVEPOINT or raw.SQLITE_ATTACH or raw.SQLITE_DETACH => raw.SQLITE_DENY,
            // Its rows are written to tables that are none of the database's own, and the log would name them.
            raw.SQLITE_CREATE_VTABLE or raw.SQLITE_DROP_VTABLE => raw.SQLITE_DENY,
            raw.SQLITE_PRAGMA => second is null || ReadingPragmas.Contains(first) ? raw.SQLITE_OK : raw.SQLITE_DENY,
            raw.SQLITE_INSERT or raw.SQLITE_UPDATE or raw.SQLITE_DELETE or raw.SQLITE_CREATE_TABLE or raw.SQLITE_DROP_TABLE
                when IsOwn(first) => raw.SQLITE_DENY,
            raw.SQLITE_ALTER_TABLE when IsOwn(second) => raw.SQLITE_DENY,
            _ => raw.SQLITE_OK,
        };

    private static bool IsOwn(string? table) => table?.StartsWith(TableCatalogue.OwnPrefix, StringComparison.OrdinalIgnoreCase) == true;
}
