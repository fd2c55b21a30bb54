using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Connections;
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

    public string Title => "PostgreSQL connection";

    public string? About => null;

    public IReadOnlyList<SettingField> Fields => PostgreSqlSettings.Fields;

    public IReadOnlyList<Capability> Can { get; } = [Capability.Source, Capability.Target, Capability.Preparation];

    public string? Remains => null;

    public string Describe(IReadOnlyDictionary<string, string> settings)
    {
        ArgumentNullException.ThrowIfNull(settings);
        return $"{settings.GetValueOrDefault("database")} on a PostgreSQL server at {settings.GetValueOrDefault("host")}";
    }

    public IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings)
    {
        var problems = new List<DefinitionProblem>();
        PostgreSqlSettings.Parse(settings, null, problems, certificates);
        return problems;
    }

    public IConnector Open(ConnectorContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        var problems = new List<DefinitionProblem>();
        var parsed = PostgreSqlSettings.Parse(
            context.Settings,
            context.Secret.GetValueOrDefault(PostgreSqlSettings.PasswordField),
            problems,
            certificates
        )
            ?? throw new PortException(
                $"The settings of {context.Name} cannot be used: "
                    + $"{string.Join("; ", problems.Select(problem => $"{problem.Field}: {problem.Found}"))}."
            )
            {
                Remedy = problems[0].Remedy,
            };
        return new PostgreSqlConnector(parsed, LogNames.Of(installation, context.Name), clock);
    }
}
