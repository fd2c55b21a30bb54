using System.Globalization;
using Npgsql;
using Vestige.Core.Connections;
using Vestige.Core.Crossings;

namespace Vestige.Connectors.PostgreSql;

/// <summary>How one database of a PostgreSQL server is reached.</summary>
/// <param name="Host">A name or an address; a path that begins with a slash means the folder of a Unix socket.</param>
/// <param name="Port">1 to 65535.</param>
/// <param name="Database">The database's name.</param>
/// <param name="User">The role's name.</param>
/// <param name="Tls">How the connection is encrypted.</param>
/// <param name="CaFile">A file with the authority's certificate in PEM form; null for the system's CAs. Only with verify.</param>
/// <param name="Password">Never shown; null when there is none.</param>
public sealed record PostgreSqlSettings(string Host, int Port, string Database, string User, TlsMode Tls, string? CaFile, string? Password)
{
    /// <summary>The part of the secret that is the role's password.</summary>
    public const string PasswordField = "password";

    /// <summary>The settings and the secret, as a form shows them.</summary>
    public static IReadOnlyList<SettingField> Fields { get; } =
    [
        new("host", "Host")
        {
            Required = true,
            IsName = true,
            Width = SettingWidth.Part,
            Example = "db.example.org",
            DirectsSecret = true,
        },
        new("port", "Port")
        {
            Type = SettingType.Number,
            Least = 1,
            Most = 65535,
            Default = "5432",
            IsName = true,
            Width = SettingWidth.Short,
            DirectsSecret = true,
        },
        new("database", "Database")
        {
            Required = true,
            IsName = true,
            Width = SettingWidth.Part,
        },
        new("user", "User")
        {
            Required = true,
            IsName = true,
            Width = SettingWidth.Part,
            DirectsSecret = true,
        },
        new(PasswordField, "Password")
        {
            Type = SettingType.Secret,
            Help = "Stored encrypted and never shown.",
        },
        new("tls", "Encryption")
        {
            Type = SettingType.Choice,
            Default = "prefer",
            DirectsSecret = true,
            Choices =
            [
                new("prefer", "when the server offers it"),
                new("off", "never"),
                new("require", "always, any certificate"),
                new("verify", "always, the certificate is checked"),
            ],
        },
        new("ca", "CA certificate, a file in --ca-folder")
        {
            IsName = true,
            Example = "the system's CAs",
            DirectsSecret = true,
        },
        new("note", "Note"),
    ];

    /// <summary>
    /// The session's settings on which text forms depend: the same on the source and on the target, so that what one writes
    /// the other reads as the same value. Rows that a policy would hide are an error, not a smaller table. Time-outs that an administrator
    /// set for people do not end our long reads.
    /// </summary>
    internal const string SessionOptions =
        "-c search_path= -c datestyle=ISO,MDY -c intervalstyle=postgres -c timezone=UTC -c extra_float_digits=3 -c bytea_output=hex "
        + "-c lc_monetary=C -c lc_numeric=C -c xmloption=content -c xmlbinary=base64 -c standard_conforming_strings=on -c "
        + "client_min_messages=error "
        + "-c array_nulls=on -c row_security=off "
        + "-c statement_timeout=0 -c idle_in_transaction_session_timeout=0 -c lock_timeout=0";

    /// <summary>Reads the settings of a connection as people give them; what is wrong is named by field.</summary>
    /// <param name="settings">By name.</param>
    /// <param name="password">The password; null for none.</param>
    /// <param name="problems">Takes what is wrong.</param>
    /// <param name="certificates">
    /// The only folder whose files may be named as an authority's certificate; null for none. Of files elsewhere nothing is said.
    /// </param>
    public static PostgreSqlSettings? Parse(
        IReadOnlyDictionary<string, string> settings,
        string? password,
        List<DefinitionProblem> problems,
        string? certificates = null
    )
    {
        ArgumentNullException.ThrowIfNull(settings);
        ArgumentNullException.ThrowIfNull(problems);
        var before = problems.Count;
        problems.AddRange(SettingRules.Check(Fields, settings, secret: null));
        var ca = CertificateIn(certificates, settings.GetValueOrDefault("ca"), problems);

        return problems.Count > before
            ? null
            : new PostgreSqlSettings(
                settings["host"].Trim(),
                int.Parse(ValueOf(settings, "port"), CultureInfo.InvariantCulture),
                settings["database"],
                settings["user"],
                Enum.Parse<TlsMode>(ValueOf(settings, "tls"), ignoreCase: true),
                ca,
                password
            );
    }

    private static string ValueOf(IReadOnlyDictionary<string, string> settings, string name) =>
        settings.GetValueOrDefault(name) is { } given && !string.IsNullOrWhiteSpace(given)
            ? given
            : Fields.First(field => field.Name == name).Default!;

    private static string? CertificateIn(string? folder, string? name, List<DefinitionProblem> problems)
    {
        if (string.IsNullOrWhiteSpace(name))
        {
            return null;
        }

        if (folder is null)
        {
            problems.Add(
                new DefinitionProblem(
                    "settings.ca",
                    "Vestige was started without a folder of certificates",
                    "Start it with --ca-folder DIR, put the authority's certificate there in PEM form, and give its file name."
                )
            );
            return null;
        }

        var path = Path.GetFullPath(Path.Combine(folder, name));
        if (
            !path.StartsWith(Path.TrimEndingDirectorySeparator(folder) + Path.DirectorySeparatorChar, StringComparison.Ordinal)
            || !File.Exists(path)
        )
        {
            problems.Add(
                new DefinitionProblem(
                    "settings.ca",
                    "there is no such file in the folder of certificates",
                    "Put the authority's certificate there in PEM form, and give its file name."
                )
            );
            return null;
        }

        return path;
    }

    /// <summary>How the driver connects.</summary>
    internal string ConnectionString(bool pooled) =>
        new NpgsqlConnectionStringBuilder
        {
            Host = Host,
            Port = Port,
            Database = Database,
            Username = User,
            Password = Password,
            SslMode = Tls switch
            {
                TlsMode.Off => SslMode.Disable,
                TlsMode.Prefer => SslMode.Prefer,
                TlsMode.Require => SslMode.Require,
                _ => SslMode.VerifyFull,
            },
            RootCertificate = Tls == TlsMode.Verify ? CaFile : null,
            Pooling = pooled,
            MaxPoolSize = 8,
            NoResetOnClose = true,
            Timeout = 10,
            CommandTimeout = 0,
            ApplicationName = "vestige",
            Options = SessionOptions,
            MaxAutoPrepare = pooled ? 0 : 200,
            AutoPrepareMinUsages = 2,
            KeepAlive = 0,
            TcpKeepAlive = true,
            TcpKeepAliveTime = 20,
            TcpKeepAliveInterval = 5,
            RequireAuth = Tls == TlsMode.Prefer ? "ScramSHA256,MD5,None" : null,
            ReadBufferSize = 64 << 10,
            WriteBufferSize = 64 << 10,
        }.ToString();
}
