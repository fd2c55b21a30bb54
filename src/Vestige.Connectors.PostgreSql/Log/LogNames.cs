namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What Vestige calls its own things on a source: one slot and one publication per installation and connection.</summary>
/// <param name="Slot">At most 63 of a to z, digits and underscores, as the server asks.</param>
/// <param name="Publication">The same name.</param>
public sealed record LogNames(string Slot, string Publication)
{
    private const int Longest = 63;

    /// <param name="installation">Tells this installation from others that read the same server: letters and digits.</param>
    /// <param name="connection">The connection's name, a slug.</param>
    public static LogNames Of(string installation, string connection)
    {
        ArgumentNullException.ThrowIfNull(connection);
        var name = $"vestige_{installation}_{connection.Replace('-', '_')}";
        return new LogNames(name[..Math.Min(name.Length, Longest)], name[..Math.Min(name.Length, Longest)]);
    }
}
