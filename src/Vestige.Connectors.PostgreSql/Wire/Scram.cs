using System.Globalization;
using System.Security.Cryptography;
using System.Text;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>The client's side of SCRAM-SHA-256 without channel binding (RFC 5802, RFC 7677).</summary>
internal sealed class Scram
{
    private readonly string password;
    private readonly string firstBare;
    private readonly string nonce;
    private byte[] serverSignature = [];

    public Scram(string password, string? nonce = null, string user = "")
    {
        this.password = password;
        this.nonce = nonce ?? Convert.ToBase64String(RandomNumberGenerator.GetBytes(18));
        firstBare = $"n={user},r={this.nonce}";
    }

    /// <summary>The client's first message.</summary>
    public string First => $"n,,{firstBare}";

    /// <summary>
    /// The client's final message in answer to the server's first. Throws <see cref="InvalidDataException"/> when that is not as the
    /// standard says.
    /// </summary>
    public string Final(string serverFirst)
    {
        var fields = serverFirst.Split(',').ToDictionary(field => field[0], field => field[2..]);
        var (both, salt, rounds) = (
            fields['r'],
            Convert.FromBase64String(fields['s']),
            int.Parse(fields['i'], CultureInfo.InvariantCulture)
        );
        if (!both.StartsWith(nonce, StringComparison.Ordinal) || both.Length == nonce.Length)
        {
            throw new InvalidDataException("The server did not answer to our nonce.");
        }

        var salted = Rfc2898DeriveBytes.Pbkdf2(Encoding.UTF8.GetBytes(password), salt, rounds, HashAlgorithmName.SHA256, 32);
        var clientKey = HMACSHA256.HashData(salted, "Client Key"u8);
        var withoutProof = $"c=biws,r={both}";
        var message = Encoding.UTF8.GetBytes($"{firstBare},{serverFirst},{withoutProof}");
        var proof = HMACSHA256.HashData(SHA256.HashData(clientKey), message);
        for (var i = 0; i < proof.Length; i++)
        {
            proof[i] ^= clientKey[i];
        }

        serverSignature = HMACSHA256.HashData(HMACSHA256.HashData(salted, "Server Key"u8), message);
        return $"{withoutProof},p={Convert.ToBase64String(proof)}";
    }

    /// <summary>Whether the server has proved that it knows the password as well.</summary>
    public bool Proves(string serverFinal) =>
        serverFinal.StartsWith("v=", StringComparison.Ordinal)
        && CryptographicOperations.FixedTimeEquals(Convert.FromBase64String(serverFinal[2..].Split(',')[0]), serverSignature);
}
