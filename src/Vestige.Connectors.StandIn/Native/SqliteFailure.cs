using SQLitePCL;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.StandIn.Native;

/// <summary>Turns what the SQLite library answers into the engine's faults.</summary>
internal static class SqliteFailure
{
    public const int PrimaryKey = 1555;
    public const int RowId = 2579;
    public const int ForeignKey = 787;
    private const int Primary = 0xFF;

    public static bool IsConstraint(int code) => (code & Primary) == raw.SQLITE_CONSTRAINT;

    public static PortException Of(sqlite3 database, int code, string where)
    {
        var words = raw.sqlite3_errmsg(database).utf8_to_string();
        return (code & Primary) switch
        {
            raw.SQLITE_FULL or raw.SQLITE_IOERR => new PortException($"{where}: {words} (SQLite {code}).")
            {
                Transient = true,
                Remedy = "Make room on the disk that holds the file.",
            },
            raw.SQLITE_BUSY or raw.SQLITE_LOCKED => new PortException($"{where}: {words} (SQLite {code}).") { Transient = true },
            _ => new PortException($"{where}: {words} (SQLite {code})."),
        };
    }
}
