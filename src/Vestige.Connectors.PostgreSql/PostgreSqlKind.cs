using System.Text.Json;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql;

/// <summary>PostgreSQL servers of version 12 and later.</summary>
/// <param name="installation">Tells this installation from others at the same server: letters and digits.</param>
/// <param name="clock">Our clock.</param>
/// <param name="certificates">The folder of certificates of authorities; null for none.</param>
public sealed class PostgreSqlKind(string installation, TimeProvider clock, string? certificates = null) : IConnectorKind
{
    public string Kind => "postgresql";

    public IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings)
    {
        var problems = new List<DefinitionProblem>();
        PostgreSqlSettings.Parse(settings, null, problems, certificates);
        return problems;
    }

    public IConnector Open(string name, IReadOnlyDictionary<string, string> settings, string? secret)
    {
        var problems = new List<DefinitionProblem>();
        var parsed = PostgreSqlSettings.Parse(settings, PasswordIn(secret), problems, certificates)
            ?? throw new PortException($"The settings of {name} cannot be used: {string.Join("; ", problems.Select(problem => $"{problem.Field}: {problem.Found}"))}.") { Remedy = problems[0].Remedy };
        return new PostgreSqlConnector(parsed, LogNames.Of(installation, name), clock);
    }

    private static string? PasswordIn(string? secret)
    {
        if (secret is null)
        {
            return null;
        }

        using var fields = JsonDocument.Parse(secret);
        return fields.RootElement.TryGetProperty("password", out var password) ? password.GetString() : null;
    }
}
