using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.Data.Sqlite;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>
/// The keys of a data folder, opened before anything else: each lies in the folder, wrapped by the data protection key ring, which lies
/// elsewhere, and the store has its fingerprint. A key that is missing or another although the store knows it is never made
/// again: masks would give other values, and what was sealed could not be opened. Only a new data folder gets new keys.
/// </summary>
public sealed class DataKeys
{
    private const string FingerprintPrefix = "key-fingerprint:";
    private const string InstallationPurpose = "installation";
    private static readonly string[] Purposes = ["spool", "mask", "signing"];
    private readonly Dictionary<string, byte[]> keys = [];

    private DataKeys() { }

    public byte[] Spool => keys["spool"];

    public byte[] Mask => keys["mask"];

    /// <summary>A private key in PKCS #8.</summary>
    public byte[] Signing => keys["signing"];

    /// <summary>Eight hexadecimal digits that tell this installation's slots and publications on servers from those of others.</summary>
    public string Installation { get; private set; } = "";

    /// <summary>Opens them all. Throws <see cref="InvalidOperationException"/> with what to do; nothing has been written then.</summary>
    public static DataKeys Open(VestigeSettings settings)
    {
        ArgumentNullException.ThrowIfNull(settings);
        RefuseWithoutStore(settings);
        var known = Known(settings.StorePath);
        if (known is not null && HasWrapped(settings) && !HasRing(settings.KeyFolder))
        {
            throw new InvalidOperationException(
                $"The key ring of this data folder is missing: {settings.KeyFolder} has no keys. Restore it, or name its folder with "
                    + "--keys. Nothing was changed."
            );
        }

        var protection = DataProtectionProvider.Create(new DirectoryInfo(settings.KeyFolder), builder =>
            builder.SetApplicationName(VestigeSettings.ApplicationName)
        );
        var opened = new DataKeys();
        foreach (var purpose in Purposes.Where(purpose => File.Exists(PathOf(settings, purpose))))
        {
            opened.keys.Add(purpose, Unwrap(settings, protection, purpose));
        }

        foreach (var purpose in Purposes.Where(purpose => known is not null))
        {
            Compare(settings, purpose, opened.keys.GetValueOrDefault(purpose), known!.GetValueOrDefault(purpose), isKept: known!.Count > 0);
        }

        opened.Installation = ReadInstallation(settings, known?.GetValueOrDefault(InstallationPurpose));
        foreach (var purpose in Purposes.Where(purpose => !opened.keys.ContainsKey(purpose)))
        {
            var made = purpose == "signing" ? NewSigningKey() : RandomNumberGenerator.GetBytes(32);
            File.WriteAllBytes(PathOf(settings, purpose), protection.CreateProtector($"vestige.{purpose}").Protect(made));
            opened.keys.Add(purpose, made);
        }

        return opened;
    }

    /// <summary>Keeps the fingerprints in the store.</summary>
    public async Task RememberAsync(StoreFactory factory, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(factory);
        await using var store = factory.CreateDbContext();
        foreach (var (purpose, key) in keys.Append(KeyValuePair.Create(InstallationPurpose, Encoding.ASCII.GetBytes(Installation))))
        {
            var name = FingerprintPrefix + purpose;
            if (await store.Settings.FindAsync([name], cancellation) is null)
            {
                store.Settings.Add(new SettingRecord { Name = name, Value = JsonSerializer.Serialize(Fingerprint(key)) });
            }
        }

        await store.SaveChangesAsync(cancellation);
    }

    private static void Compare(VestigeSettings settings, string purpose, byte[]? key, string? fingerprint, bool isKept)
    {
        var path = PathOf(settings, purpose);
        if (key is null && (fingerprint is not null || (!isKept && purpose != "signing")))
        {
            throw new InvalidOperationException(
                $"The key {path} is missing, and what this data folder holds was made with it. Restore it from a backup. Nothing was "
                    + "changed."
            );
        }

        if (key is not null && fingerprint is not null && Fingerprint(key) != fingerprint)
        {
            throw new InvalidOperationException(
                $"The key {path} is not the one of this data folder. Restore the one that belongs to it. Nothing was changed."
            );
        }
    }

    /// <summary>A new store beside old spools would not know their crossings, and the sources would keep log that nobody reads.</summary>
    private static void RefuseWithoutStore(VestigeSettings settings)
    {
        var spools = Path.Combine(settings.DataFolder, "spool");
        if (
            new FileInfo(settings.StorePath) is not { Exists: true, Length: > 0 }
            && Directory.Exists(spools)
            && Directory.EnumerateFileSystemEntries(spools).Any()
        )
        {
            throw new InvalidOperationException(
                $"The store {settings.StorePath} is missing or empty, and this data folder has spools of its crossings. Restore it "
                    + "from a backup, or start with another data folder. Nothing was changed."
            );
        }
    }

    /// <summary>Under another name the servers would keep log for a slot that nobody reads, and every place would seem lost.</summary>
    private static string ReadInstallation(VestigeSettings settings, string? fingerprint)
    {
        var path = Path.Combine(settings.DataFolder, InstallationPurpose);
        if (!File.Exists(path) && fingerprint is null && !Directory.Exists(path))
        {
            File.WriteAllText(path, Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(4)));
        }

        string text;
        try
        {
            text = File.ReadAllText(path).Trim();
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new InvalidOperationException(
                $"The file {path}, which names this installation, cannot be read: {exception.Message} Restore it from a backup. "
                    + "Nothing was changed.",
                exception
            );
        }

        return
            text.Length == 8
            && text.All(char.IsAsciiHexDigitLower)
            && (fingerprint is null || Fingerprint(Encoding.ASCII.GetBytes(text)) == fingerprint)
            ? text
            : throw new InvalidOperationException(
                $"The file {path} does not name this installation any more: it is damaged or belongs to another one. Restore it from "
                    + "a backup. Nothing was changed."
            );
    }

    private static byte[] Unwrap(VestigeSettings settings, IDataProtectionProvider protection, string purpose)
    {
        var path = PathOf(settings, purpose);
        try
        {
            return protection.CreateProtector($"vestige.{purpose}").Unprotect(File.ReadAllBytes(path));
        }
        catch (CryptographicException exception)
        {
            throw new InvalidOperationException(
                $"The key {path} cannot be unwrapped with the key ring in {settings.KeyFolder}: one of the two is damaged or belongs "
                    + "to another installation. Restore them together. Nothing was changed.",
                exception
            );
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new InvalidOperationException($"The key {path} cannot be read: {exception.Message}", exception);
        }
    }

    private static byte[] NewSigningKey()
    {
        using var made = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        return made.ExportPkcs8PrivateKey();
    }

    /// <summary>The fingerprints that an existing store has, by purpose; null where there is no store yet.</summary>
    private static Dictionary<string, string>? Known(string path)
    {
        if (!File.Exists(path))
        {
            return null;
        }

        var known = new Dictionary<string, string>();
        try
        {
            using var connection = new SqliteConnection($"Data Source={path};Mode=ReadOnly;Pooling=False");
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = "SELECT Name, Value FROM Settings WHERE Name LIKE 'key-fingerprint:%'";
            using var reader = command.ExecuteReader();
            while (reader.Read())
            {
                known[reader.GetString(0)[FingerprintPrefix.Length..]] = JsonSerializer.Deserialize<string>(reader.GetString(1))!;
            }
        }
        catch (SqliteException exception) when (exception.SqliteErrorCode == 1)
        {
            // A store from before there were settings.
        }
        catch (SqliteException exception)
        {
            throw new InvalidOperationException(
                $"The store {path} cannot be read: {exception.Message.TrimEnd('.')}. Restore it from a backup, or start with another "
                    + "data folder. Nothing was changed.",
                exception
            );
        }

        return known;
    }

    private static bool HasWrapped(VestigeSettings settings) => Purposes.Any(purpose => File.Exists(PathOf(settings, purpose)));

    private static bool HasRing(string folder) => Directory.Exists(folder) && Directory.EnumerateFiles(folder, "key-*.xml").Any();

    private static string PathOf(VestigeSettings settings, string purpose) => Path.Combine(settings.DataFolder, $"{purpose}.key");

    private static string Fingerprint(byte[] key) =>
        Convert.ToHexStringLower(SHA256.HashData([.. "vestige key fingerprint "u8, .. key]))[..32];
}
