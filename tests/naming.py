"""Names of bones in many languages and habits, for characters: see ``characters.character(words=...)``."""

from __future__ import annotations

_ORDER = (
    "root", "hips", "spine", "neck", "head", "collarbone", "upper_arm", "forearm", "hand", "thigh", "shin", "foot", "toes",
    "thumb", "index", "middle", "ring", "little", "roll", "twist", "end", "hair", "eye", "jaw", "face", "tail", "wing", "cloth",
    "cape", "prop", "socket", "goal", "corrective",
)  # fmt: skip
# Per language: left and right, then words in the order above; several are told apart by a stroke.
_TABLES = {
    "english": "left right Root Hips|Pelvis Spine|Chest Neck Head Clavicle|Shoulder|Collar UpperArm|Arm ForeArm|LowerArm|Elbow Hand|Wrist "
    "Thigh|UpperLeg|UpLeg Shin|Calf|LowerLeg|Knee Foot|Ankle Toes|Toe|Ball Thumb Index Middle Ring Pinky|Little Roll Twist End|Tip "
    "Hair Eye Jaw Face Tail Wing Skirt Cape|Cloak Prop Socket IK_Target Corrective|Muscle",
    "short": "L R Rt Pelv|Hip Spn|Chst Nck Hd Clav|Clv UpArm|UArm|Shldr LoArm|FArm Hnd|Wrst Thgh|UpLeg LoLeg|Clf Ft|Ank Toe|Bll Thmb|Thm "
    "Idx|Ind Mid|Mdl Rng Pnk|Lit Rol Twst End Hr Eye Jaw Fc Tl Wng Skrt Cp Prp Sckt IK Fix",
    "german": "links|Links|Li rechts|Rechts|Re Wurzel Becken|Hüfte Wirbel|Wirbelsäule|Brust Hals|Nacken Kopf Schlüsselbein|Schulter "
    "Oberarm Unterarm|Ellbogen Hand|Handgelenk Oberschenkel Unterschenkel|Schienbein|Knie Fuß|Fuss Zehen|Zehe|Ballen Daumen Zeigefinger "
    "Mittelfinger Ringfinger KleinerFinger|Kleinfinger Rolle Drehung|Twist Ende|Spitze Haar|Zopf Auge Kiefer Gesicht|Braue Schwanz "
    "Flügel Rock Umhang|Mantel Laterne|Werkzeug Halter_Socket IK_Ziel Hilfsknochen|Muskel",
    "french": "gauche|G droite|D Racine Bassin|Hanches Colonne|Vertebre|Dos|Torse Cou Tête|Tete Clavicule|Epaule Bras|HautBras AvantBras|Coude "
    "Main|Poignet Cuisse Jambe|Mollet|Tibia|Genou Pied|Cheville Orteils|Orteil Pouce Index Majeur Annulaire Auriculaire Torsion|Roll Torsion "
    "Bout|Extremite Cheveux|Meche Oeil Machoire|Mâchoire Visage|Sourcil Queue Aile Jupe Cape|Manteau Lanterne|Outil Socket Cible_IK Correctif",
    "spanish": "izquierda|Izq derecha|Der Raiz Cadera|Pelvis Columna|Espalda|Pecho Cuello Cabeza Clavicula|Clavícula|Hombro Brazo|BrazoSuperior "
    "Antebrazo|Codo Mano|Muñeca Muslo Pantorrilla|Espinilla|Rodilla Pie|Tobillo DedosPie|PuntaPie Pulgar Indice|Índice Medio|Corazon Anular "
    "Meñique Giro|Roll Torsion Fin|Extremo Pelo|Trenza Ojo Mandibula Cara|Ceja Cola Ala Falda Capa Farol|Objeto Socket Objetivo_IK Correctivo",
    "italian": "sinistra|Sx destra|Dx Radice Bacino|Anche Colonna|Schiena|Torace Collo Testa Clavicola|Spalla Braccio Avambraccio|Gomito Mano|Polso "
    "Coscia Gamba|Polpaccio|Stinco|Ginocchio Piede|Caviglia DitaPiede|PuntaPiede Pollice Indice Medio Anulare Mignolo Rotazione|Roll Torsione "
    "Fine|Estremità Capelli|Treccia Occhio Mandibola Viso|Labbro Coda Ala Gonna Mantello Lanterna|Oggetto Socket Bersaglio_IK Correttivo",
    "portuguese": "esquerda|Esq direita|Dir Raiz Quadril|Bacia Coluna|Espinha|Peito Pescoço|Pescoco Cabeça|Cabeca Clavicula|Ombro Braço|Braco "
    "Antebraço|Antebraco|Cotovelo Mão|Mao|Pulso Coxa Perna|Canela|Joelho Pé|Tornozelo DedosPe|PontaPe Polegar Indicador Medio|Médio Anelar "
    "Mindinho|Mínimo Giro|Roll Torcao|Torção Fim|Ponta_End Cabelo|Trança Olho Mandibula Rosto|Boca Cauda Asa Saia Capa Lanterna|Objeto Socket "
    "Alvo_IK Corretivo",
    "dutch": "links|L rechts|R Wortel Bekken|Heup Wervel|Rug|Borst Nek|Hals Hoofd Sleutelbeen|Schouder Bovenarm Onderarm|Elleboog Hand|Pols "
    "Bovenbeen|Dij Onderbeen|Scheenbeen|Kuit|Knie Voet|Enkel Tenen|Teen Duim Wijsvinger Middelvinger Ringvinger Pink Draai|Roll Draaiing "
    "Einde|Uiteinde Haar|Vlecht Oog Kaak Gezicht|Wenkbrauw Staart Vleugel Rok Mantel|Jas Lantaarn|Gereedschap Socket Doel_IK Hulp|Spier",
    "polish": "lewa|Lewy|lewe prawa|Prawy|prawe Korzeń|Korzen Miednica|Biodra Kręgosłup|Kregoslup|Plecy Szyja|Kark Głowa|Glowa Obojczyk|Bark "
    "Ramię|Ramie Przedramię|Przedramie|Łokieć Dłoń|Dlon|Nadgarstek Udo Łydka|Golen|Kolano|Podudzie Stopa|Kostka PalceStopy|Palce Kciuk "
    "Wskazujący|Wskazujacy Środkowy|Srodkowy Serdeczny Mały|Maly Skręt|Roll Skret Koniec Włosy|Warkocz Oko Żuchwa Twarz|Brew Ogon Skrzydło "
    "Spódnica Peleryna Latarnia|Narzędzie Socket Cel_IK Mięsień",
    "romaji": "hidari|Hidari|L migi|Migi|R oya Koshi|Kotsuban Sebone|Mune|Senaka Kubi Atama Sakotsu|Kata Jouwan|Ude Zenwan|Hiji Tekubi|Te Futomomo|Momo "
    "Sune|Hiza Ashikubi|Ashi Tsumasaki Oyayubi Hitosashiyubi Nakayubi Kusuriyubi Koyubi Nejiri|Hineri Hineri Saki Kami|Maegami Me Ago Kao|Mayu "
    "Shippo Hane|Tsubasa Sukaato Manto Dougu_Prop Socket IK Hojo",
    "kanji": "左 右 親 腰|骨盤|下半身 上半身|背骨|胸 首 頭 肩|鎖骨 腕|上腕 ひじ|前腕|肘 手首|手 足|太もも|大腿 ひざ|すね|膝 足首 つま先 親指 人指|人差指 中指 薬指 小指 "
    "捩|ねじり 捩 先 髪|前髪 目 あご 顔|眉 しっぽ 羽|翼 スカート マント ランタン|道具 Socket ＩＫ 補助",
    "chinese": "左 右 根 骨盆|髋 脊椎|脊柱|胸 颈|脖子 头 锁骨|肩 上臂|大臂 前臂|小臂 手|手腕|手掌 大腿 小腿|膝 脚|脚踝 脚趾 拇指|大拇指 食指 中指 无名指 小指|小拇指 扭转 扭转 "
    "末端 头发|辫子 眼睛|眼 下巴 眉毛|嘴 尾巴 翅膀 裙子|裙 披风 灯笼|道具 Socket IK目标 辅助",
    "korean": "왼쪽|좌|왼 오른쪽|우|오른 루트 골반|엉덩이 척추|가슴|허리 목 머리 쇄골|어깨 위팔|상완|팔 아래팔|전완|팔꿈치 손|손목 허벅지|넓적다리 정강이|종아리|무릎 발|발목 발가락|발끝 엄지 검지 중지 약지 "
    "소지|새끼 비틀림 회전 끝 머리카락|앞머리 눈 턱 얼굴|눈썹 꼬리 날개 치마 망토 등불|도구 Socket IK목표 보조",
}  # fmt: skip
LANGUAGES = tuple(_TABLES)
_SPARE = {
    "toe": "toes",
    "heel": "corrective",
    "palm": "hand",
    "metacarpal": "hand",
    "hip helper": "corrective",
    "ear": "hair",
    "second root": "root",
}
_NUMBERED = ("spine", "neck", "hair", "face", "tail", "wing", "cloth", "cape", "prop")


def named(language):
    """A maker of names in a language: one habit for a whole skeleton, drawn at random."""
    left, right, *words = (cell.split("|") for cell in _TABLES[language].split())
    table = dict(zip(_ORDER, words, strict=True))
    eastern = language in ("kanji", "chinese", "korean")

    def make(kinds, rng):
        pick = lambda of: of[int(rng.integers(len(of)))]  # noqa: E731
        said = {part: pick(of) for part, of in table.items()}
        side = int(rng.integers(max(len(left), len(right))))
        sides = {"left": left[side % len(left)], "right": right[side % len(right)]}
        joiner = pick(["", ""]) if eastern else pick(["_", "", ".", "-", " "])
        first, case, begin = rng.random() < 0.5, pick(["as is", "as is", "lower"]), pick(["", "", "", "rig:", "quay_"])
        counts, names = {}, []
        for kind in kinds:
            of, _, rest = kind.partition(" ")
            words = []
            part = rest if of in sides else kind
            for extra in ("roll", "twist"):
                if part.endswith(" " + extra):
                    part = part.removesuffix(" " + extra)
                    words.append(said[extra])
            part = _SPARE.get(part, part)
            words.insert(0, said[part.replace(" ", "_")])
            if of in sides:
                words.insert(0 if first else len(words), sides[of])
            name = joiner.join(w if joiner or w[:1].isupper() or eastern else w.capitalize() for w in words)
            name = begin + (name.lower() if case == "lower" and joiner else name)
            counts[name] = counts.get(name, 0) + 1
            many = counts[name] > 1 or part in _NUMBERED
            names.append(f"{name}{pick(['', '_']) if many else ''}{counts[name]}" if many else name)
        seen = set()
        for i in range(len(names)):
            while names[i] in seen:
                names[i] += "x"
            seen.add(names[i])
        return names

    return make
