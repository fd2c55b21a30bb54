namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What Vestige calls its own things on a source: one slot and one publication per installation and connection.</summary>
/// <param name="Slot">At most 63 of a to z, digits and underscores, as the server asks.</param>
/// <param name="Publication">The same name; of tables whose changed rows can be found again.</param>
/// <param name="Inserts">
/// A publication of inserts only, of tables without a replica identity: to publish their updates would make them fail at the source.
/// </param>
public sealed record LogNames(string Slot, string Publication, string Inserts)
{
    /// <summary>How names of publications of inserts begin.</summary>
    public const string InsertsPrefix = "vestige_inserts_";

    private const int Longest = 63;

    /// <param name="installation">Tells this installation from others that read the same server: letters and digits.</param>
    /// <param name="connection">The connection's name, a slug.</param>
    public static LogNames Of(string installation, string connection)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var name = $"{installation}_{connection.Replace('-', '_')}";
        var ours = Cut($"vestige_{name}");
        return new LogNames(ours, ours, Cut($"{InsertsPrefix}{name}"));
    }

    private static string Cut(string name) => name[..Math.Min(name.Length, Longest)];
}
